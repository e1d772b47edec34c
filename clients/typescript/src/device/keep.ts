// How long a device keeps what it has, how old that may be, and what it keeps of what was looked up.
import { column, isNumberField, listKey } from "./columns.ts";
import type { Collection } from "../core/definition.ts";
import * as stamps from "../core/stamp.ts";
import type { Param } from "./database.ts";
import { Shelf, type Stored } from "./shelf.ts";
import { keptOf, said, spanOf, type Kept, type Settings } from "./steer.ts";

export { spanOf } from "./steer.ts";

/** How old something is, against what its definition allows: old warns people, too old takes no edits. */
export type Age = "fresh" | "old" | "too old" | "unknown";

/** How central says that a device is to behave. */
export interface Steered {
  values: Settings;
  /** Since when the device goes by them, by its clock; empty for nothing. */
  at: string;
  /** To whoever uses the device; empty for none. */
  note: string;
  /** The program that central asks for at least; empty for any. */
  leastVersion: string;
}

/** About what a record takes, in bytes. */
const weight = `(length(fields) + length(marks) + length(computed) + 250)`;

/** How much later it must be for a look at the store to be noted, in milliseconds. */
const noteAgain = 600_000;

export class Keeper extends Shelf {
  /**
   * The device's clock, or the latest moment that this store has seen if the clock was turned back since: what is old does
   * not become fresh by that.
   */
  protected latest(): number {
    const stamp = this.fact("stamp");
    return Math.max(this.now(), Number(this.fact("latest")), stamp === "" ? 0 : stamps.millisOf(stamp));
  }

  /** When central last confirmed a collection, and whether that is longer ago than its definition allows. */
  protected ageOf(c: Collection): { asOf: string | null; age: Age } {
    const row = this.one<{ pulled_at: string | null }>(`SELECT pulled_at FROM collections WHERE name = ?`, [c.name]);
    const asOf = row?.pulled_at ?? null;
    return { asOf, age: this.judge(c, asOf) };
  }

  private judge(c: Collection, asOf: string | null): Age {
    if (!c.maxAge) {
      return "fresh";
    }
    if (asOf === null) {
      return "unknown";
    }
    const age = this.latest() - Date.parse(asOf);
    const beyond = (text: string) => age > (spanOf(text) ?? Infinity);
    return beyond(c.maxAge.block) ? "too old" : beyond(c.maxAge.warn) ? "old" : "fresh";
  }

  /** Gives a collection that somebody is about to read, without what may not be kept any longer. */
  protected readable(name: string): Collection {
    this.mustBeSomebody();
    if (this.now() - Number(this.fact("latest")) >= noteAgain) {
      this.setFact("latest", String(Math.floor(this.now())));
    }
    const c = this.collection(name);
    this.expire(c);
    this.watchTheDay();
    return c;
  }

  /** Lets go of what is kept for a stated time only, when that is over. Unsent changes stay. */
  protected expire(c: Collection): void {
    const span = spanOf(c.keep);
    const { asOf } = this.ageOf(c);
    if (span !== undefined && asOf !== null && this.latest() - Date.parse(asOf) > span) {
      this.within(() => this.forgetAll(c.name));
    }
  }

  private letGoOf(condition: string, params: Param[]): void {
    const gone = this.db.all<Stored>(`SELECT * FROM records WHERE ${condition}`, params);
    for (const row of gone) {
      this.drop(row);
    }
  }

  /** Lets go of the records of a collection that hold nothing unsent; the next exchange loads it from the start, if it loads it. */
  protected forgetAll(name: string): void {
    this.letGoOf(`collection = ? AND pending = 0`, [name]);
    this.db.run(
      `UPDATE collections SET cursor = 0, head = 0, pulled_at = NULL, loading = 1, covers = '["*"]', gaining = NULL, gained = 0
         WHERE name = ?`,
      [name],
    );
  }

  /** Brings what is kept of a collection in line with a new definition. */
  protected keepAnew(before: Collection, now: Collection): void {
    if ((now.keep === "never" && before.keep !== "never") || (now.loads && !before.loads)) {
      this.forgetAll(now.name);
    } else if (now.keep === "on demand" && before.loads) {
      // What is here counts as looked up, as of the last pull.
      this.db.run(
        `UPDATE records SET confirmed_at = (SELECT pulled_at FROM collections WHERE name = ?1),
           used_at = (SELECT pulled_at FROM collections WHERE name = ?1) WHERE collection = ?1 AND revision > 0`,
        [now.name],
      );
    }
  }

  /** Notes that central has a record as this device has it. */
  protected confirm(collection: string, id: string): void {
    this.db.run(
      `UPDATE records SET confirmed_at = ?1, used_at = coalesce(used_at, ?1) WHERE collection = ?2 AND id = ?3`,
      [this.time(), collection, id],
    );
  }

  /** Bounds what is kept of what was looked up, in bytes; 0 bounds nothing. What was used longest ago goes first. */
  setBudget(bytes: number): void {
    this.setFact("budget", String(Math.max(Math.floor(bytes), 0)));
    this.fitBudget();
  }

  /** How central says that this device is to behave, as far as it knows how. */
  settings(): Steered {
    const { values, at } = this.kept;
    const [note, leastVersion] = ["note", "least_version"].map((name) => String(said(this.kept, name) ?? ""));
    return { values, at, note: note ?? "", leastVersion: leastVersion ?? "" };
  }

  protected get kept(): Kept {
    return keptOf(this.fact("settings"));
  }

  /** Lets go of records that were looked up until the others fit the budget. */
  protected fitBudget(): void {
    const { budget } = this.lookedUp();
    if (budget === 0) {
      return; // none was set
    }
    this.within(() =>
      this.letGoOf(
        `pending = 0 AND (collection, id) IN (SELECT collection, id FROM
           (SELECT collection, id, sum(${weight}) OVER (ORDER BY pending > 0 DESC, used_at DESC, id) AS filled FROM records
              WHERE used_at IS NOT NULL)
           WHERE filled > ?)`,
        [budget],
      ),
    );
  }

  /** About how many bytes what was looked up takes, and what it may take; 0 is without a bound. */
  lookedUp(): { bytes: number; budget: number } {
    const row = this.one<{ bytes: number }>(
      `SELECT coalesce(sum(${weight}), 0) AS bytes FROM records WHERE used_at IS NOT NULL`,
    );
    return { bytes: row?.bytes ?? 0, budget: Number(said(this.kept, "budget") ?? this.fact("budget")) };
  }

  /** Makes lists quick that are sorted or filtered by what the definition names. What it no longer names costs nothing any more. */
  protected indexLists(c: Collection): void {
    const start = `list_${c.name}__`;
    const wanted = new Map(
      c.lists.map((name) => {
        // By its name an index is of one expression: one over another column, or another kind of value, is another.
        const kind = isNumberField(c, name) ? "number" : "text";
        return [`${start}${name}_${kind}_${column(c, name)}`, listKey(c, name)];
      }),
    );
    const there = this.db.all<{ name: string }>(
      `SELECT name FROM sqlite_schema WHERE type = 'index' AND substr(name, 1, ?) = ?`,
      [start.length, start],
    );
    for (const { name } of there) {
      if (!wanted.delete(name)) {
        this.db.run(`DROP INDEX ${name}`);
      }
    }
    // SQLite takes the primary key for a collection unless another index begins with it, too.
    for (const [name, key] of wanted) {
      this.db.run(
        `CREATE INDEX ${name} ON records (collection, ${key}, id) WHERE collection = '${c.name}' AND NOT removed`,
      );
    }
  }
}
