// An exchange with central: push until the outbox is answered, then pull to the head; and what is said about exchanges.
import { FingerprintSet } from "../core/fingerprint.ts";
import { write, type Value } from "../core/json.ts";
import { DeviceError, Problem } from "./errors.ts";
import type { Age } from "./keep.ts";
import { Link } from "./link.ts";
import type { Progress, Report, Run } from "./meet.ts";
import { Puller } from "./pull.ts";
import { firstBatch } from "./push.ts";
import type { Summary } from "./receiver.ts";
import type { Stored } from "./shelf.ts";

/** A collection as the device has it. */
export interface Holding {
  name: string;
  title: string;
  version: number;
  records: number;
  pending: number;
  cursor: number;
  head: number;
  pulledAt: string | null;
  direction: string;
  keep: string;
  age: Age;
}

/** An exchange that is over. */
export interface Exchanged {
  startedAt: string;
  endedAt: string;
  summary: Summary;
  /** Why it broke off; empty where it did not. */
  error: string;
}

/** How an exchange is watched and broken off. */
export interface ExchangeOptions {
  watch?: (progress: Progress) => void;
  signal?: AbortSignal;
}

const keptExchanges = 200;

export abstract class Line extends Puller {
  private busy = false;

  /** Meets central, and does by the way as much of the exchange as fits. */
  protected abstract begin(run: Run, push: boolean, pull: boolean): Promise<void>;

  /** Does what central has asked for, and says what became of it, as JSON for the report. */
  protected abstract runErrands(run: Run): Promise<Value[]>;

  /** Pushes until the outbox is answered, then pulls to the head. What was answered or stored is kept if it breaks off. */
  exchange(options: ExchangeOptions = {}): Promise<Summary> {
    return this.run(true, true, options);
  }

  /** Only pushes. */
  push(options: ExchangeOptions = {}): Promise<Summary> {
    return this.run(true, false, options);
  }

  /** Only pulls. Unsent changes stay, laid over what comes. */
  pull(options: ExchangeOptions = {}): Promise<Summary> {
    return this.run(false, true, options);
  }

  /** One exchange. After is done with its connection once all else is, but for what central asks for. */
  protected async run(
    push: boolean,
    pull: boolean,
    options: ExchangeOptions,
    after: (run: Run) => Promise<void> = async () => {},
  ): Promise<Summary> {
    if (this.busy) {
      throw new DeviceError("busy", "an exchange of this store is running already");
    }
    if (this.fact("token") === "") {
      throw new DeviceError("not-enrolled", "this store is not enrolled; enrol it with an enrolment code");
    }
    this.busy = true;
    return this.exclusive(() => this.runAlone(push, pull, options, after));
  }

  private async runAlone(
    push: boolean,
    pull: boolean,
    options: ExchangeOptions,
    after: (run: Run) => Promise<void>,
  ): Promise<Summary> {
    const started = this.time();
    const counts = {
      sent: 0,
      applied: 0,
      merged: 0,
      held: 0,
      refused: 0,
      waiting: 0,
      received: 0,
      removed: 0,
      withdrawn: 0,
    };
    const run: Run = {
      link: new Link(this.fact("central"), this.fact("token"), this.options.fetch ?? fetch),
      summary: { exchange: this.newID(), ...counts },
      offset: this.offset,
      maxChanges: firstBatch,
      maxBytes: 1 << 20,
      defined: new Set(),
      revoked: false,
      prepared: false,
      settled: undefined,
      told: undefined,
      longWay: false,
      errands: [],
      erases: false,
      watch: options.watch ?? (() => {}),
      signal: options.signal,
    };
    try {
      await this.meetAgain(run, push, pull);
      if (pull && !run.revoked) {
        await this.pullAfterRestore(run);
      }
      if (push) {
        await this.pushAll(run);
      }
      if (run.revoked) {
        throw new DeviceError("revoked", "this device was revoked; it gets nothing more from central");
      }
      if (pull) {
        await this.pullAll(run);
      }
      await after(run);
      await this.report(run, await this.runErrands(run));
      this.forgetTravelled();
    } catch (error) {
      try {
        this.log(started, run.summary, error instanceof Error ? error.message : String(error));
      } catch {
        // A store that cannot be written says so with the next save; why the exchange broke off is said now.
      }
      throw error;
    } finally {
      this.busy = false;
    }
    this.log(started, run.summary, "");
    if (run.erases && this.giveUp() === undefined) {
      this.db.wipe();
      throw new DeviceError("erased", "central asked for it, and nothing was unsent: this store was erased");
    }
    return run.summary;
  }

  /** Keeps what an exchange came to, also when it was broken off. */
  private log(started: string, summary: Summary, error: string): void {
    this.within(() => {
      this.db.run(`INSERT INTO exchanges (id, started_at, ended_at, summary, error) VALUES (?, ?, ?, ?, ?)`, [
        summary.exchange,
        started,
        this.time(),
        JSON.stringify(summary),
        error,
      ]);
      this.db.run(
        `DELETE FROM exchanges WHERE id NOT IN (SELECT id FROM exchanges ORDER BY started_at DESC LIMIT ${keptExchanges})`,
      );
    });
  }

  /** The latest exchanges of this store, the last one first. */
  exchanges(): Exchanged[] {
    const rows = this.db.all<{ started_at: string; ended_at: string; summary: string; error: string }>(
      `SELECT * FROM exchanges ORDER BY started_at DESC, id DESC`,
    );
    return rows.map((row) => ({
      startedAt: row.started_at,
      endedAt: row.ended_at,
      summary: JSON.parse(row.summary) as Summary,
      error: row.error,
    }));
  }

  /**
   * Sets the cursor of a collection back: the next exchange pulls again what was accepted since. What is here stays as it is,
   * and nothing unsent is touched. It is for developers who want to see that.
   */
  turnBack(collection: string, cursor: number): void {
    this.collection(collection);
    const now = this.coveredOf(collection).cursor;
    if (!Number.isInteger(cursor) || cursor < 0 || cursor > now) {
      throw new DeviceError(
        "not-allowed",
        `the cursor of ${collection} is ${now}; it can be turned back to 0 to ${now}, and forward only by pulling`,
      );
    }
    this.db.run(`UPDATE collections SET cursor = ?1, loading = loading OR ?1 = 0 WHERE name = ?2`, [
      cursor,
      collection,
    ]);
  }

  /** What would be lost with the store, in words; nothing where nothing would. */
  protected spared(): string | undefined {
    const owed = this.one<{ changes: number; lost: number; local: number }>(
      `SELECT (SELECT count(*) FROM outbox) AS changes,
         (SELECT count(*) FROM records WHERE lost <> '') + (SELECT count(*) FROM lost_values) AS lost,
         (SELECT count(*) FROM records WHERE local <> '{}') + (SELECT count(*) FROM kept_local) AS local`,
    );
    if (owed?.changes) {
      return `${owed.changes} changes are to be mended or discarded on the device first`;
    }
    if (owed?.lost) {
      return `it has ${owed.lost} records of which central has lost something, to be offered or let go on the device first`;
    }
    if (owed?.local) {
      return `${owed.local} records have values that stay on the device, and go with its store alone`;
    }
    return undefined;
  }

  /** What would be lost with the store of what somebody has made on it, in words; nothing where nothing would. */
  loss(): string | undefined {
    const drafts = this.one<{ n: number }>(`SELECT count(*) AS n FROM drafts`)?.n ?? 0;
    return this.spared() ?? (drafts > 0 ? `${drafts} drafts were typed here and not saved` : undefined);
  }

  /**
   * Erases the store from this device, with the copies beside it. While something would be lost with it, it refuses unless
   * backup names a file: a copy of the store is written there first. What others have not sent is theirs to give up.
   */
  erase(options: { backup?: string } = {}): Promise<void> {
    return this.exclusive(async () => {
      this.mustBeSomebody();
      const others = this.one<{ n: number }>(
        `SELECT count(*) AS n FROM outbox WHERE kept IS NOT NULL AND author <> ?`,
        [this.fact("worker")],
      );
      if (others?.n) {
        throw new DeviceError(
          "unsent",
          `${others.n} changes are sealed here for others who use this device; an exchange delivers them, or they see to what was refused`,
        );
      }
      const why = this.loss();
      if (why !== undefined) {
        if (options.backup === undefined) {
          throw new DeviceError("unsent", why);
        }
        this.backup(options.backup);
      }
      this.within(() => {
        this.setFact("token", "");
        this.setFact("erasing", "true");
      });
      this.db.wipe();
    });
  }

  /** Makes the store one that takes nothing more, where nothing would be lost with it; otherwise it says what would. */
  private giveUp(): string | undefined {
    return this.within(() => {
      const why = this.spared();
      if (why === undefined) {
        this.setFact("token", "");
        this.setFact("erasing", "true");
      }
      return why;
    });
  }

  /** When what this store shows tells central that its database was put back, central is another, and they meet anew. */
  private async meetAgain(run: Run, push: boolean, pull: boolean): Promise<void> {
    try {
      await this.begin(run, push, pull);
    } catch (error) {
      if (!(error instanceof Problem && error.type.endsWith(":generation-changed"))) {
        throw error;
      }
      await this.meet(run);
    }
  }

  /** What the device holds and owes now. */
  protected owed(): Report {
    const owed = this.one<Omit<Report, "cursors">>(
      `SELECT coalesce(sum(state IN ('new', 'sent')), 0) AS unsent, coalesce(sum(state = 'refused'), 0) AS refused,
         coalesce(sum(state = 'waiting'), 0) AS waiting FROM outbox`,
    );
    const rows = this.db.all<{ name: string; cursor: number }>(`SELECT name, cursor FROM collections ORDER BY name`);
    const loaded = rows.filter(({ name }) => this.collection(name).loads);
    return {
      ...(owed ?? { unsent: 0, refused: 0, waiting: 0 }),
      cursors: Object.fromEntries(loaded.map(({ name, cursor }) => [name, cursor])),
    };
  }

  /**
   * Tells central what the device holds and owes now, unless central knows. It is for people to see; a central that cannot
   * take it has lost nothing. Nothing is erased before central has heard of it.
   */
  private async report(run: Run, errands: Value[]): Promise<void> {
    const owed = this.owed();
    const known = run.told;
    const settings = this.untold();
    if (errands.length === 0 && settings.length === 0 && known && write(sorted(known)) === write(sorted(owed))) {
      return;
    }
    const parts = [
      ...settings,
      `"clock":${this.clockOf(run)}`,
      ...(errands.length > 0 ? [`"errands":${write(errands)}`] : []),
    ];
    const body = `{${JSON.stringify(owed).slice(1, -1)},${parts.join(",")}}`;
    try {
      await this.call(run, { method: "PUT", path: "/v1/report", body });
      this.told(settings);
    } catch (error) {
      run.erases = false;
      if (!(error instanceof Problem || (error instanceof DeviceError && error.code === "unreachable"))) {
        throw error;
      }
    }
  }

  /** What the device holds, by name. */
  collections(): Holding[] {
    const rows = this.db.all<{
      name: string;
      cursor: number;
      head: number;
      pulled_at: string | null;
    }>(`SELECT name, cursor, head, pulled_at FROM collections ORDER BY name`);
    return rows.map((row) => {
      const c = this.collection(row.name);
      const count = this.one<{ records: number; pending: number }>(
        `SELECT coalesce(sum(NOT removed), 0) AS records, coalesce(sum(pending > 0), 0) AS pending FROM records WHERE collection = ?`,
        [row.name],
      );
      return {
        name: row.name,
        title: c.title,
        version: c.version,
        records: count?.records ?? 0,
        pending: count?.pending ?? 0,
        cursor: row.cursor,
        head: row.head,
        pulledAt: row.pulled_at,
        direction: c.direction,
        keep: c.keep,
        age: this.ageOf(c).age,
      };
    });
  }

  /** The fingerprint of all records of a collection that the device shows. */
  fingerprint(collection: string): { count: number; fingerprint: string } {
    this.collection(collection);
    const set = new FingerprintSet();
    const rows = this.db.all<Stored>(`SELECT * FROM records WHERE collection = ? AND NOT removed`, [collection]);
    for (const row of rows) {
      set.add(row.id, row.fields);
    }
    return { count: set.count, fingerprint: String(set) };
  }
}

function sorted({ cursors, unsent, refused, waiting }: Report): Value {
  return { cursors: { ...cursors }, unsent, refused, waiting };
}
