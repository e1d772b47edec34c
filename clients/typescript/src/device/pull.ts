// What comes from central: the changes of each collection, page by page.
import { isArray, write } from "../core/json.ts";
import { Problem } from "./errors.ts";
import type { Run } from "./meet.ts";
import { Pusher } from "./push.ts";
import { list, members, type Members } from "./receiver.ts";
import { listOf, type Entry } from "./shelf.ts";
import { said } from "./steer.ts";

const pageRecords = 2000;
const leastPage = 20;
const mostAsked = 500;

export abstract class Puller extends Pusher {
  /** Brings what is new in all collections at once, after batches or definitions that came first, where that may be. */
  protected abstract pullAtOnce(run: Run): Promise<void>;

  /** Brings what was looked up of a collection in line with central. */
  protected abstract refresh(run: Run, name: string): Promise<void>;

  /** Brings each collection to its head; when the worker's territories change meanwhile, it starts over with those. */
  protected async pullAll(run: Run): Promise<void> {
    for (let tries = 3; ; tries--) {
      try {
        return await this.pullEach(run);
      } catch (error) {
        if (!(error instanceof Problem && error.type.endsWith(":coverage-changed")) || tries === 1) {
          throw error;
        }
        run.settled = undefined;
        await this.define(run);
      }
    }
  }

  private async pullEach(run: Run): Promise<void> {
    if (!run.settled) {
      this.lookAnew();
      await this.pullAtOnce(run);
      if (run.revoked) {
        return;
      }
    }
    for (const name of this.definitions().keys()) {
      const c = this.collection(name);
      if (run.defined.has(name) && c.keep === "on demand" && c.direction !== "up") {
        await this.refresh(run, name);
      }
      if (!run.defined.has(name) || !c.loads || run.settled?.has(name)) {
        continue;
      }
      const covers = await this.cover(run, name);
      await this.pullFrom(run, name, this.coveredOf(name).cursor, covers, false);
    }
    await this.askLost(run);
  }

  /** Brings what is loaded of a collection in line with the territories that the worker holds. */
  private async cover(run: Run, name: string): Promise<string[] | undefined> {
    const c = this.collection(name);
    const held = listOf(this.fact("held"));
    const known = this.coveredOf(name);
    const all = held.includes("*");
    if (!c.territorial) {
      this.setCoverage(name, ["*"]);
      return undefined; // everybody covers all; central decides by what it has stored
    }
    if (known.cursor === 0 && known.gaining === undefined) {
      if (!all) {
        this.dropOutside(c, held, run.summary);
      }
      this.setCoverage(name, held);
      return held;
    }
    let loaded = known.covers;
    if (!all && loaded.some((key) => !held.includes(key))) {
      this.dropOutside(c, held, run.summary);
      loaded = loaded.filter((key) => key === "*" || held.includes(key));
    }
    const gained = held.filter((key) => !loaded.includes(key));
    if (!loaded.includes("*") && gained.length > 0) {
      let from = known.gained;
      if (write(known.gaining ?? []) !== write(gained)) {
        this.setGaining(name, loaded, gained);
        from = 0;
      }
      await this.pullFrom(run, name, from, gained, true);
    }
    this.setCoverage(name, held);
    return held;
  }

  private async pullFrom(
    run: Run,
    name: string,
    from: number,
    covers: string[] | undefined,
    gaining: boolean,
  ): Promise<void> {
    const row = this.one<{ loading: number; held: number }>(
      `SELECT loading, EXISTS (SELECT 1 FROM records WHERE collection = ?1) AS held FROM collections WHERE name = ?1`,
      [name],
    );
    // What this device itself once sent may not be here any more while the collection is loaded.
    const answered = row?.loading || gaining || from === 0 || this.fact("torn") !== "" ? 0 : this.answered();
    let cursor = from;
    let empty = row?.held === 0 && from === 0;
    let limit = Number(said(this.kept, "page") ?? pageRecords);
    let done = 0;
    let total: number | undefined;
    for (let more = true; more;) {
      const ask = new URLSearchParams({
        cursor: String(cursor),
        limit: String(limit),
      });
      for (const key of covers?.length === 0 ? [""] : (covers ?? [])) {
        ask.append("covers", key);
      }
      if (answered > 0) ask.set("answered", String(answered));
      if (gaining || empty) ask.set("load", "true");
      let page: Members;
      try {
        page = members(
          await this.call(run, {
            method: "GET",
            path: `/v1/changes/${name}?${ask}`,
          }),
        );
      } catch (error) {
        const slow = error instanceof Problem && [408, 504].includes(error.status);
        if (!slow || limit === leastPage) {
          throw error;
        }
        limit = Math.max(Math.floor(limit / 4), leastPage);
        continue;
      }
      this.takePage(page, gaining, run.summary);
      more = page.more === true;
      cursor = Number(page.cursor);
      empty = false;
      done += isArray(page.records) ? page.records.length : 0;
      total ??= page.total === undefined ? undefined : Number(page.total);
      run.watch({
        phase: "pull",
        collection: name,
        done,
        ...(total === undefined ? {} : { total }),
      });
    }
  }

  /** The number up to which all changes of this store have an answer that is stored, or are in a batch that is to be. */
  protected answered(batch: Entry[] = []): number {
    const goes = batch.filter((q) => q.origin === "").map((q) => q.number);
    const highest = Math.max(Number(this.fact("answered")), ...goes);
    const open = this.one<{ n: number }>(
      `SELECT coalesce(min(number), 0) AS n FROM outbox WHERE origin = '' AND state IN ('new', 'sent')
         AND number NOT IN (SELECT value FROM json_each(?))`,
      [JSON.stringify(batch.map((q) => q.number))],
    )?.n;
    return open ? Math.min(highest, open - 1) : highest;
  }

  /** Loads what a restored central has before anything is offered again, so that people see that first. */
  protected async pullAfterRestore(run: Run): Promise<void> {
    const lost = this.one<{ is: number }>(
      `SELECT EXISTS (SELECT 1 FROM records WHERE lost <> '') AND EXISTS (SELECT 1 FROM collections WHERE loading) AS "is"`,
    );
    if (lost?.is === 1) {
      await this.pullAll(run);
    }
  }

  /** Asks central about the records of which it has not said since its restore that it has them. */
  private async askLost(run: Run): Promise<void> {
    this.pruneLostValues();
    const rows = this.db.all<{ collection: string; id: string }>(
      `SELECT collection, id FROM records WHERE lost <> '' ORDER BY collection, id`,
    );
    for (const name of new Set(rows.map((row) => row.collection))) {
      const held = rows.filter((row) => row.collection === name && run.defined.has(name));
      for (let from = 0; from < held.length; from += mostAsked) {
        const records = held.slice(from, from + mostAsked).map(({ id }) => ({ id, revision: 0 }));
        const body = JSON.stringify({ records });
        const got = members(
          await this.call(run, {
            method: "POST",
            path: `/v1/refresh/${name}`,
            body,
          }),
        );
        this.within(() => this.takeRecords(name, list(got.records), { ...run.summary }), true);
      }
    }
    if (rows.length > 0) {
      this.dropUnknown();
    }
  }
}
