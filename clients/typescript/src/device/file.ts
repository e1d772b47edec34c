// The file of a store: its tables, its transactions, and what it knows of itself.
import { uuid7 } from "../core/id.ts";
import * as stamps from "../core/stamp.ts";
import type { Database, Param } from "./database.ts";
import { DeviceError } from "./errors.ts";

/** A clock that nobody turns: how long the machine has run, in milliseconds, and an identity of this run. */
export type Tick = () => { boot: string; since: number };

/** What a store is opened with. */
export interface Options {
  /** The device's clock, in milliseconds since 1970. */
  now?: () => number;
  tick?: Tick;
  /** Makes ids of records, batches and exchanges: UUIDv7 (RFC 9562). */
  newID?: () => string;
  /** The way to central. */
  fetch?: typeof fetch;
  /** Program and system, for central's list of devices. */
  agent?: string;
}

/** A change of a record that a store tells its listeners of, each once. */
export interface Changed {
  collection: string;
  id: string;
  removed?: boolean;
  /** An exchange brought it; otherwise it was saved here. */
  central?: boolean;
  /** Somebody else uses the device now: all may be shown otherwise, and collection and id are empty. */
  missed?: boolean;
}

const version = 1;

const tables = [
  `CREATE TABLE facts (name TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID`,
  `CREATE TABLE collections (
    name TEXT PRIMARY KEY, doc TEXT NOT NULL, rules TEXT NOT NULL, cursor INTEGER NOT NULL DEFAULT 0, head INTEGER NOT NULL DEFAULT 0,
    pulled_at TEXT, loading INTEGER NOT NULL DEFAULT 0, covers TEXT NOT NULL DEFAULT '["*"]', gaining TEXT,
    gained INTEGER NOT NULL DEFAULT 0, seal TEXT NOT NULL DEFAULT '', sight TEXT NOT NULL DEFAULT '') WITHOUT ROWID`,
  // The view that people see. A record with unsent changes keeps what central last said beside it.
  `CREATE TABLE records (
    collection TEXT NOT NULL, id TEXT NOT NULL, revision INTEGER NOT NULL, removed INTEGER NOT NULL, fields TEXT NOT NULL,
    computed TEXT NOT NULL DEFAULT '{}', local TEXT NOT NULL DEFAULT '{}', marks TEXT NOT NULL DEFAULT '',
    under_removed INTEGER NOT NULL DEFAULT 0, under_fields TEXT, under_by TEXT NOT NULL DEFAULT '', pending INTEGER NOT NULL DEFAULT 0,
    withdrawn INTEGER NOT NULL DEFAULT 0, lost TEXT NOT NULL DEFAULT '', author TEXT NOT NULL DEFAULT '', device TEXT NOT NULL DEFAULT '',
    edited_at TEXT NOT NULL DEFAULT '', received_at TEXT NOT NULL DEFAULT '', confirmed_at TEXT, used_at TEXT,
    PRIMARY KEY (collection, id))`,
  `CREATE INDEX records_used ON records (used_at) WHERE used_at IS NOT NULL`,
  `CREATE INDEX records_pending ON records (collection) WHERE pending > 0`,
  `CREATE INDEX records_lost ON records (collection, id) WHERE lost <> ''`,
  `CREATE TABLE people (
    name TEXT PRIMARY KEY, place INTEGER NOT NULL, role TEXT NOT NULL, territories TEXT NOT NULL, secret TEXT NOT NULL DEFAULT '',
    keys TEXT NOT NULL DEFAULT '[]', tries INTEGER NOT NULL DEFAULT 0, tried_at TEXT) WITHOUT ROWID`,
  // Values that stay on this device, of records of which nothing else is left here, sealed for whoever set them.
  `CREATE TABLE kept_local (author TEXT NOT NULL, kept TEXT NOT NULL)`,
  // AUTOINCREMENT: a number is never given twice, whatever is deleted.
  `CREATE TABLE outbox (
    number INTEGER PRIMARY KEY AUTOINCREMENT, collection TEXT NOT NULL, record TEXT NOT NULL, kind TEXT NOT NULL,
    base INTEGER NOT NULL, fields TEXT NOT NULL, stamp TEXT NOT NULL, edited_at TEXT NOT NULL, author TEXT NOT NULL,
    origin TEXT NOT NULL DEFAULT '', generation TEXT NOT NULL DEFAULT '', grp TEXT NOT NULL DEFAULT '',
    grp_of INTEGER NOT NULL DEFAULT 0, mended INTEGER NOT NULL DEFAULT 0, seen TEXT NOT NULL DEFAULT '[]',
    folds TEXT NOT NULL DEFAULT '[]', digests TEXT NOT NULL DEFAULT '[]', parts TEXT NOT NULL DEFAULT '[]', place INTEGER, boot TEXT NOT NULL DEFAULT '',
    line INTEGER NOT NULL DEFAULT 0, unsure INTEGER NOT NULL DEFAULT 0, state TEXT NOT NULL DEFAULT 'new', batch TEXT,
    reasons TEXT, kept TEXT, sealed TEXT, told TEXT)`,
  `CREATE INDEX outbox_record ON outbox (collection, record)`,
  // What central has accepted, so that it can be offered again to one that was restored.
  `CREATE TABLE travelled (
    at TEXT NOT NULL, number INTEGER NOT NULL, collection TEXT NOT NULL, record TEXT NOT NULL, kind TEXT NOT NULL,
    base INTEGER NOT NULL, fields TEXT NOT NULL, stamp TEXT NOT NULL, dated TEXT NOT NULL, unsure INTEGER NOT NULL,
    edited_at TEXT NOT NULL, author TEXT NOT NULL, origin TEXT NOT NULL, generation TEXT NOT NULL, grp TEXT NOT NULL,
    grp_of INTEGER NOT NULL, seen TEXT NOT NULL, folds TEXT NOT NULL, digests TEXT NOT NULL,
    parts TEXT NOT NULL, kept TEXT, sealed TEXT)`,
  `CREATE INDEX travelled_at ON travelled (at)`,
  // What exchanges came to.
  `CREATE TABLE exchanges (
    id TEXT PRIMARY KEY, started_at TEXT NOT NULL, ended_at TEXT NOT NULL, summary TEXT NOT NULL, error TEXT NOT NULL) WITHOUT ROWID`,
  // What central had of records before it was restored from an older state, where it now has less.
  `CREATE TABLE lost_values (
    collection TEXT NOT NULL, id TEXT NOT NULL, revision INTEGER NOT NULL, fields TEXT NOT NULL, marks TEXT NOT NULL,
    removed INTEGER NOT NULL DEFAULT 0, PRIMARY KEY (collection, id)) WITHOUT ROWID`,
];

/** Tables that came later than version 1, of which a program that does not know them needs nothing. */
const additions = [
  // What was typed and not saved; sealed for its author while somebody else uses the device.
  `CREATE TABLE IF NOT EXISTS drafts (
    number INTEGER PRIMARY KEY AUTOINCREMENT, author TEXT NOT NULL, collection TEXT NOT NULL, record TEXT NOT NULL,
    at TEXT NOT NULL, text TEXT NOT NULL, kept TEXT)`,
  // The records that want attention on the day that the facts name.
  `CREATE TABLE IF NOT EXISTS attention (
    collection TEXT NOT NULL, id TEXT NOT NULL, grade TEXT NOT NULL, say TEXT NOT NULL, PRIMARY KEY (collection, id)) WITHOUT ROWID`,
  `CREATE INDEX IF NOT EXISTS records_disputed ON records (collection) WHERE instr(marks, '"disputes"')`,
];

/** Facts that a store knows of itself, by name. */
export type Fact =
  | "answered"
  | "batch"
  | "boot"
  | "budget"
  | "central"
  | "day"
  | "definitions"
  | "device"
  | "erasing"
  | "generation"
  | "held"
  | "incarnation"
  | "latest"
  | "name"
  | "renewed"
  | "offset"
  | "role"
  | "seal"
  | "seal-to"
  | "settings"
  | "settings-told"
  | "sight"
  | "source-from"
  | "source-of"
  | "stamp"
  | "territories"
  | "then"
  | "token"
  | "torn"
  | "version"
  | "worker";

export class File {
  readonly now: () => number;
  readonly tick: Tick;
  readonly newID: () => string;
  private readonly listeners = new Set<(changed: Changed) => void>();
  private notes = new Map<string, Changed>();
  private inside = false;
  private last: Promise<unknown> = Promise.resolve();

  constructor(
    protected readonly db: Database,
    protected readonly options: Options,
  ) {
    this.now = options.now ?? Date.now;
    this.tick = options.tick ?? (() => ({ boot: machine, since: performance.now() }));
    this.newID = options.newID ?? (() => uuid7(this.now()));
    this.db.run(`PRAGMA synchronous = EXTRA`);
    this.db.all(`PRAGMA secure_delete = ON`); // what is put aside or let go of is overwritten
    this.migrate();
    for (const table of additions) {
      this.db.run(table);
    }
  }

  private migrate(): void {
    const known = this.db.all(`SELECT 1 FROM sqlite_schema WHERE name = 'facts'`);
    if (known.length === 0) {
      this.db.run(`BEGIN IMMEDIATE`);
      for (const table of tables) {
        this.db.run(table);
      }
      this.setFact("version", String(version));
      this.setFact("incarnation", this.newID());
      this.db.run(`COMMIT`);
      return;
    }
    if (this.fact("erasing") === "true") {
      this.db.wipe(); // it was on the way when the program ended
      throw new DeviceError("erased", "this store was erased, as central asked; enrol a new one");
    }
    if (Number(this.fact("version")) > version) {
      throw new DeviceError("newer", "this store was made by a newer version of the program; open it with that one");
    }
  }

  close(): void {
    this.db.close();
  }

  /** Writes a copy of the store to a new file. */
  backup(path: string): void {
    this.db.copyTo(path);
  }

  /** The copies beside the store that were made before risky steps. */
  backups(): string[] {
    return this.db.besides();
  }

  /** Makes a copy beside the store before a risky step. It is called outside of transactions. */
  protected backupBefore(why: string): void {
    this.db.copyBeside(
      `before-${why}-${this.time()
        .replace(/[^0-9]/g, "")
        .slice(0, 17)}-${this.newID().slice(-6)}`,
    );
  }

  /** Gives the store another identity. What it has saved so far keeps the old one as its source. */
  protected newIncarnation(): void {
    this.goUnder(this.newID());
    this.setFact("renewed", "true");
    this.setFact("answered", "");
    this.setFact("torn", "");
    this.ownSource(this.fact("worker"), "");
  }

  /** Lets the store save under a source from now on. What was saved so far keeps the one that it had. */
  protected goUnder(now: string): void {
    const old = this.fact("incarnation");
    this.db.run(`UPDATE outbox SET origin = ? WHERE origin = ''`, [old]);
    this.db.run(`UPDATE travelled SET origin = ? WHERE origin = ''`, [old]);
    this.setFact("incarnation", now);
  }

  /** Notes who saves under the present source, and what was numbered before. */
  protected ownSource(name: string, last: string): void {
    this.setFact("source-of", name);
    this.setFact("source-from", last);
  }

  /** What was let go of is no longer in the file as it was. */
  protected overwrite(): void {
    this.db.all(`PRAGMA wal_checkpoint(TRUNCATE)`);
  }

  protected lastNumber(): number {
    return this.one<{ seq: number }>(`SELECT seq FROM sqlite_sequence WHERE name = 'outbox'`)?.seq ?? 0;
  }

  /** Runs work in one transaction: all of it is on the disk when this returns, or nothing of it. */
  within<T>(work: () => T, central = false): T {
    if (this.inside) {
      return work();
    }
    this.db.run(`BEGIN IMMEDIATE`);
    this.inside = true;
    this.notes = new Map();
    let done: T;
    try {
      done = work();
      this.finish();
      this.db.run(`COMMIT`);
    } catch (error) {
      try {
        this.db.run(`ROLLBACK`);
      } catch {
        // A full disk has undone the transaction already.
      }
      this.forget();
      throw error;
    } finally {
      this.inside = false;
    }
    for (const changed of this.notes.values()) {
      for (const listener of this.listeners) {
        listener(central ? { ...changed, central } : changed);
      }
    }
    return done;
  }

  /** Lets one exchange, or one change of who is signed in, be done after the other. */
  protected exclusive<T>(work: () => Promise<T>): Promise<T> {
    const done = this.last.then(work, work);
    this.last = done.catch(() => undefined);
    return done;
  }

  /** What is done at the end of each transaction, and what is let go of when one fails. */
  protected finish(): void {}
  protected forget(): void {}

  /** Notes that a record is shown otherwise from this transaction on. */
  protected note(collection: string, id: string, removed: boolean): void {
    this.notes.set(`${collection} ${id}`, {
      collection,
      id,
      ...(removed ? { removed } : {}),
    });
  }

  /** Notes that from this transaction on all may be shown otherwise. */
  protected noteAll(): void {
    this.notes.set("", { collection: "", id: "", missed: true });
  }

  /** Tells a listener of each change of a record that this store makes from now on. */
  listen(listener: (changed: Changed) => void): () => void {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  }

  fact(name: Fact): string {
    return this.db.all<{ value: string }>(`SELECT value FROM facts WHERE name = ?`, [name])[0]?.value ?? "";
  }

  protected setFact(name: Fact, value: string): void {
    this.db.run(
      `INSERT INTO facts (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value`,
      [name, value],
    );
  }

  protected one<T extends object>(sql: string, params: Param[] = []): T | undefined {
    return this.db.all<T>(sql, params)[0];
  }

  /** How far the device's clock is behind central's, as it was measured last. */
  protected get offset(): stamps.Offset {
    const [by = "0", error = "0"] = this.fact("offset").split(" ");
    return { by: Number(by), error: Number(error) };
  }

  /** The time as it is written. */
  protected time(): string {
    return new Date(this.now()).toISOString();
  }
}

const machine = crypto.randomUUID();
