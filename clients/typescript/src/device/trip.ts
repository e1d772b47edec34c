// A trip is one request that says all that an exchange has to say, and whose answer is all that there is to hear, where
// little has happened. What does not fit goes the long way: hello, definitions, batches, pages, report.
import { isArray, write } from "../core/json.ts";
import * as stamps from "../core/stamp.ts";
import { isObject } from "../core/state.ts";
import { Problem } from "./errors.ts";
import { Line } from "./line.ts";
import type { Report, Run } from "./meet.ts";
import { list, members, text, type Members } from "./receiver.ts";
import { listOf, type Entry } from "./shelf.ts";

/** A trip came to nothing: central is another, or is not used to trips. */
class Anew extends Error {}

/** What a trip asks for and says, with what this store must know when the answer is here. */
interface Asked {
  cursors: { [collection: string]: number };
  batch: string;
  changes: Entry[];
  /** Members of the request besides those, as JSON. */
  more: string[];
  clock: boolean;
}

/** Central's word on several cursors at once. */
interface Sealed {
  seal: string;
  cursors: { [collection: string]: number };
}

const mostSeals = 50;
/** How much the steady clocks of machines may go wrong, as a part of the time that has passed: ten times what crystals do. */
const drift = 2e-4;

export abstract class Traveller extends Line {
  protected override async begin(run: Run, push: boolean, pull: boolean): Promise<void> {
    if (this.mayTravel()) {
      try {
        return await this.trip(run, push, pull);
      } catch (error) {
        if (!goesLong(error)) {
          throw error;
        }
        run.settled = undefined;
        run.told = undefined;
        run.longWay = true;
      }
    }
    await this.meet(run);
  }

  /** Whether this store knows enough of central for a trip. */
  private mayTravel(): boolean {
    const lost = this.one(`SELECT 1 FROM records WHERE lost <> '' LIMIT 1`);
    return this.fact("definitions") !== "" && this.fact("renewed") !== "true" && lost === undefined;
  }

  protected override async pullAtOnce(run: Run): Promise<void> {
    if (run.longWay || !this.mayTravel()) {
      return;
    }
    const asked = this.blank();
    asked.more.push(`"clock":${this.clockOf(run)}`);
    asked.clock = true;
    this.askForPages(run, asked);
    if (Object.keys(asked.cursors).length === 0) {
      return;
    }
    try {
      await this.travel(run, asked);
    } catch (error) {
      if (!goesLong(error)) {
        throw error;
      }
      run.longWay = true;
    }
  }

  private blank(): Asked {
    const [digest = ""] = this.fact("definitions").split(" ");
    const more = [`"generation":${write(this.fact("generation"))}`, `"definitions":${write(digest)}`];
    return { cursors: {}, batch: "", changes: [], more, clock: false };
  }

  private async trip(run: Run, push: boolean, pull: boolean): Promise<void> {
    run.defined = new Set(this.fact("definitions").split(" ").slice(1));
    const asked = this.blank();
    const offset = this.confirmed();
    if (offset) {
      run.offset = offset;
      asked.clock = true;
      asked.more.push(`"clock":${this.clockOf(run)}`);
    }
    if (push) {
      this.prepare(run);
      if (offset) {
        const { id, changes } = this.nextBatch(this.batchSize(run).most, run.maxBytes / 2);
        if (changes.length > 0) {
          asked.batch = id;
          asked.changes = changes;
          asked.more.push(`"batch":${this.written(run, id, changes)}`);
        }
      }
    }
    if (pull) {
      this.lookAnew();
      this.askForPages(run, asked);
    }
    this.showSeals(asked);
    await this.travel(run, asked);
  }

  /** The offset of the device's clock now, by what was measured last and a clock that nobody turns. */
  private confirmed(): stamps.Offset | undefined {
    const [by, error, line, at] = this.fact("offset").split(" ").map(Number);
    const { boot, since } = this.tick();
    if (by === undefined || error === undefined || line === undefined || at === undefined) {
      return undefined;
    }
    const passed = since - at;
    if (boot === "" || this.fact("boot") !== boot || passed < 0) {
      return undefined; // the machine was started anew since
    }
    return { by: by - (this.now() - since - line), error: error + passed * drift };
  }

  /** Shows central its own words on where it was: the one on all cursors, and those that say more. */
  private showSeals(asked: Asked): void {
    const all = this.sealed();
    if (all.seal !== "") {
      asked.more.push(`"seal":${write(all.seal)}`);
      if (write({ ...all.cursors }) !== write({ ...asked.cursors })) {
        asked.more.push(`"sealed":${write({ ...all.cursors })}`);
      }
    }
    const rows = this.db.all<{ seal: string }>(`SELECT seal FROM collections WHERE seal <> '' ORDER BY pulled_at DESC`);
    const seals = rows.filter(({ seal }) => {
      const [name = "", position] = seal.split(".");
      return !(Number(position) <= (all.cursors[name] ?? -1));
    });
    if (seals.length > 0) {
      asked.more.push(`"seals":${write(seals.slice(0, mostSeals).map((one) => one.seal))}`);
    }
  }

  private sealed(): Sealed {
    const kept = this.fact("seal");
    return kept === "" ? { seal: "", cursors: {} } : (JSON.parse(kept) as Sealed);
  }

  protected override async recognise(run: Run): Promise<void> {
    if (this.fact("seal") === "") {
      return;
    }
    const asked = this.blank();
    this.showSeals(asked);
    try {
      await this.call(run, { method: "POST", path: "/v1/trips", body: `{${asked.more.join(",")}}` });
    } catch (error) {
      // What else it may be will be said again by what comes next.
      if (!(error instanceof Problem) || error.type.endsWith(":generation-changed")) {
        throw error;
      }
    }
  }

  /** Adds the cursors of all collections that are loaded as far as whoever uses the device covers them. */
  private askForPages(run: Run, asked: Asked): void {
    const held = listOf(this.fact("held"));
    const rows = this.db.all<{ name: string; cursor: number; covers: string }>(
      `SELECT name, cursor, covers FROM collections WHERE pulled_at IS NOT NULL AND NOT loading AND gaining IS NULL`,
    );
    for (const { name, cursor, covers } of rows) {
      const c = this.collection(name);
      const loaded = listOf(covers);
      const whole = c.territorial
        ? loaded.length === held.length && held.every((key) => loaded.includes(key))
        : write(loaded) === '["*"]';
      if (run.defined.has(name) && c.loads && whole) {
        asked.cursors[name] = cursor;
      }
    }
    asked.more.push(`"cursors":${write({ ...asked.cursors })}`);
    const answered = this.fact("torn") === "" ? this.answered(asked.changes) : 0; // what it once sent may not be here any more
    if (answered > 0) {
      asked.more.push(`"answered":${answered}`);
    }
  }

  /** Makes a trip, and stores what it brings. */
  private async travel(run: Run, asked: Asked): Promise<void> {
    const { unsent, refused, waiting } = this.owed();
    const owed: Report = { cursors: asked.cursors, unsent: unsent - asked.changes.length, refused, waiting };
    const counts = `"unsent":${owed.unsent},"refused":${refused},"waiting":${waiting}`;
    const sent = this.now();
    const settings = this.untold();
    const body = `{${[...asked.more, counts, ...settings].join(",")}}`;
    const met = members(await this.call(run, { method: "POST", path: "/v1/trips", body }));
    if (text(met.generation) !== "" && text(met.generation) !== this.fact("generation")) {
      throw new Anew();
    }
    this.told(settings);
    const [received = sent, answered = sent] = [met.received_at, met.answered_at].map((at) => Date.parse(text(at)));
    const measured = stamps.measure(sent, received, answered, this.now());
    if (!asked.clock || measured.error < run.offset.error) {
      run.offset = measured;
    }
    run.maxChanges = Math.max(Number(met.max_changes ?? run.maxChanges), 1);
    run.maxBytes = Number(met.max_bytes ?? run.maxBytes);
    run.revoked = met.revoked === true;
    run.errands = list(met.errands).map((one) => ({ id: text(one.id), what: text(one.what) }));
    this.within(() => this.keepOffset(run.offset));
    await this.hear(run, asked, met, owed);
  }

  /**
   * Stores what a trip has brought. The answers are to changes as they were when they left: what new definitions make of
   * records, and who may no longer use the device, comes after them.
   */
  private async hear(run: Run, asked: Asked, met: Members, owed: Report): Promise<void> {
    if (asked.batch !== "") {
      if (!isObject(met.answers)) {
        throw new Anew();
      }
      await this.hearAnswers(run, asked.batch, asked.changes, met.answers);
      run.watch({ phase: "push", done: run.summary.sent });
    }
    if (isObject(met.definitions)) {
      await this.takeDefined(run, met.definitions);
    }
    const torn = members(met.answers).torn === true; // what central left out as this store's own need not be here
    if (!torn && !isObject(met.definitions) && !run.revoked && Object.keys(asked.cursors).length > 0) {
      this.hearPages(run, asked, met, owed);
    }
  }

  private hearPages(run: Run, asked: Asked, met: Members, owed: Report): void {
    const settled = new Set(Object.keys(asked.cursors));
    const cursors = { ...asked.cursors };
    for (const name of isArray(met.left) ? met.left : []) {
      settled.delete(text(name));
    }
    // What the batch has made to be loaded again is not all on the page.
    const anew = new Set(
      this.db.all<{ name: string }>(`SELECT name FROM collections WHERE loading`).map((row) => row.name),
    );
    const pages: Members[] = [];
    for (const page of list(met.pages)) {
      const name = text(page.collection);
      cursors[name] = Number(page.cursor);
      if (anew.has(name)) {
        continue;
      }
      pages.push(page);
      if (page.more === true) {
        settled.delete(name);
      }
    }
    for (const name of anew) {
      settled.delete(name);
    }
    for (const [name, head] of Object.entries(members(met.heads))) {
      cursors[name] = Number(head);
    }
    // All in one transaction: a cursor without central's word on it would not tell that central was put back.
    this.within(() => {
      for (const page of pages) {
        this.takePage(page, false, run.summary);
      }
      for (const name of settled) {
        this.db.run(`UPDATE collections SET cursor = ?1, head = max(head, ?1), pulled_at = ?2 WHERE name = ?3`, [
          cursors[name] ?? 0,
          this.time(),
          name,
        ]);
      }
      const seal = text(met.seal);
      if (seal !== "") {
        this.setFact("seal", JSON.stringify({ seal, cursors } satisfies Sealed));
      }
    }, true);
    for (const page of pages) {
      run.watch({ phase: "pull", collection: text(page.collection), done: list(page.records).length });
    }
    run.settled = settled;
    if (pages.length > 0) {
      return; // the report says how far it has come
    }
    const answers = list(members(met.answers).answers).map((one) => text(one.answer));
    const left = (verdict: string) => answers.filter((one) => one === verdict).length;
    run.told = {
      cursors: { ...asked.cursors, ...(members(met.heads) as { [collection: string]: number }) },
      unsent: owed.unsent,
      refused: owed.refused + left("refused"),
      waiting: owed.waiting + left("waiting"),
    };
  }
}

/** Whether what a trip came to may go well the long way. */
function goesLong(error: unknown): boolean {
  if (error instanceof Problem) {
    const statuses = [401, 404, 405, 408, 409, 413, 504]; // with 401, central may say at least that it is another
    return error.type.endsWith(":revoked") || statuses.includes(error.status);
  }
  return error instanceof Anew;
}
