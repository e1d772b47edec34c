// What central says, taken in: definitions, pages, territories. Each in one transaction; nothing here waits for
// anybody.
import { Collection, covers as covered } from "../core/definition.ts";
import { isArray, parse, write, type Value } from "../core/json.ts";
import {
  blank,
  isObject,
  marksFrom,
  noMark,
  noMarks,
  readFields,
  readMarks,
  writeFields,
  writeMarks,
  type Fields,
  type Marks,
  type State,
} from "../core/state.ts";
import { Counter } from "./counts.ts";
import type { Turn } from "./aside.ts";
import { peopleOf } from "./house.ts";
import { byOf, fieldsOf, listOf, stored, underOf, type Stored } from "./shelf.ts";

/** What an exchange came to. */
export interface Summary {
  exchange: string;
  sent: number;
  applied: number;
  merged: number;
  held: number;
  refused: number;
  waiting: number;
  /** Records that came, removals included. */
  received: number;
  removed: number;
  withdrawn: number;
}

export type Members = { [key: string]: Value };

/** An answer's record, or one of a page. */
export interface Sent {
  id: string;
  revision: number;
  removed: boolean;
  withdrawn: boolean;
  fields: Fields;
  marks: Marks;
  author: string;
  device: string;
  editedAt: string;
  receivedAt: string;
}

export class Receiver extends Counter {
  /** Takes over the definitions, and who may use the device and what they hold. */
  protected async takeDefinitions(sent: Members): Promise<void> {
    const before = this.fact("worker");
    const people = peopleOf(write(sent.people ?? []));
    const take = (turn: Turn) => {
      const rules = members(sent.rules);
      for (const definition of list(sent.definitions)) {
        const name = text(definition.collection);
        const doc = write(definition);
        const before = this.one<{ doc: string; rules: string }>(`SELECT doc, rules FROM collections WHERE name = ?`, [
          name,
        ]);
        const hold = write(rules[name] ?? {});
        if (before?.doc === doc && before.rules === hold) {
          continue;
        }
        this.db.run(
          `INSERT INTO collections (name, doc, rules) VALUES (?, ?, ?)
             ON CONFLICT (name) DO UPDATE SET doc = excluded.doc, rules = excluded.rules`,
          [name, doc, hold],
        );
        const c = this.collection(name);
        this.setFact("day", ""); // what wants attention may be something else now
        if (c.parent) {
          this.db.run(
            `CREATE INDEX IF NOT EXISTS records_parent_${name}_${c.parent.field} ON records (fields->>'$.${c.parent.field}')
               WHERE collection = '${name}'`,
          );
        }
        if (before) {
          this.keepAnew(new Collection(parse(before.doc)), c);
        }
        this.indexLists(c);
        this.layAnew(c, before ? texts(members(parse(before.doc)).renamed) : {});
      }
      this.takePeople(people, turn);
      this.setFact("held", write(sent.territories ?? []));
      this.setFact("sight", text(sent.sight));
      this.setFact("seal-to", text(sent.seal_to));
    };
    await this.sealing(
      () => this.staying(people),
      take,
      async () => undefined,
      true,
    );
    if (this.fact("worker") !== before) {
      this.overwrite();
    }
  }

  /** Lays what is unsent over what central said by a new definition, under the names that fields have now. */
  private layAnew(c: Collection, before: { [earlier: string]: string }): void {
    const fresh = Object.entries(c.renamed).filter(([earlier, now]) => before[earlier] !== now);
    for (const row of this.db.all<Stored>(`SELECT * FROM records WHERE collection = ?`, [c.name])) {
      if (fresh.length > 0) {
        const names = Object.fromEntries(fresh);
        const under = row.under_fields === null ? null : writeFields(renamed(fieldsOf(row.under_fields), names));
        const marks = row.marks === "" ? "" : writeMarks(renamedMarks(readMarks(row.marks), names));
        this.put({
          ...row,
          fields: writeFields(renamed(fieldsOf(row.fields), names)),
          under_fields: under,
          marks,
        });
        this.note(c.name, row.id, Boolean(row.removed));
      }
      if (row.pending > 0) {
        const now = this.load(c.name, row.id) ?? row;
        this.rebuild(now, underOf(now));
      }
      this.mark(c.name, row.id);
    }
  }

  /** Counts for what is in no summary. */
  protected uncounted(): Summary {
    const counts = { sent: 0, applied: 0, merged: 0, held: 0, refused: 0, waiting: 0 };
    return { exchange: "", ...counts, received: 0, removed: 0, withdrawn: 0 };
  }

  /** Makes collections load from the start whose reading rule may decide otherwise than when they were loaded. */
  protected lookAnew(): void {
    this.within(() => {
      const sight = this.fact("sight");
      for (const c of this.definitions().values()) {
        this.expire(c);
        if (!c.readable) {
          continue;
        }
        this.db.run(
          `UPDATE collections SET cursor = 0, head = 0, loading = 1, gaining = NULL, gained = 0
             WHERE name = ? AND sight <> ? AND sight <> ''`,
          [c.name, sight],
        );
        this.db.run(`UPDATE collections SET sight = ? WHERE name = ?`, [sight, c.name]);
      }
    });
  }

  /** Stores a page and its cursor in one transaction, so a kill at any point leaves both or neither. */
  protected takePage(page: Members, gaining: boolean, summary: Summary): void {
    this.within(() => {
      const collection = text(page.collection);
      this.takeRecords(collection, list(page.records), summary);
      if (gaining) {
        this.db.run(`UPDATE collections SET gained = ? WHERE name = ?`, [Number(page.cursor), collection]);
        return;
      }
      this.db.run(
        `UPDATE collections SET cursor = ?1, seal = iif(?2 = '', seal, ?2), head = ?3, pulled_at = ?4,
           loading = (loading OR cursor = 0) AND ?5 WHERE name = ?6`,
        [Number(page.cursor), text(page.seal), Number(page.head), this.time(), page.more === true ? 1 : 0, collection],
      );
    }, true);
  }

  /** Puts records one by one under what is unsent, or drops those that are withdrawn. */
  protected takeRecords(collection: string, records: Members[], summary: Summary): void {
    const c = this.collection(collection);
    const above = c.parent && this.definitions().get(c.parent.collection);
    const plain = !c.computes && !above?.computes; // nothing is to be worked out because of it
    for (const one of records) {
      if (plain && this.putPlain(collection, one)) {
        summary.received++;
        continue;
      }
      const row = this.load(collection, text(one.id));
      const record = sentOf(one, row ? underOf(row) : undefined);
      if (record.withdrawn) {
        summary.withdrawn++;
        this.withdraw(collection, record);
        continue;
      }
      summary.received++;
      summary.removed += record.removed ? 1 : 0;
      this.layUnder(collection, row, record);
    }
  }

  /** Writes a record that has nothing unsent here, which is the rule. It says whether it did. */
  private putPlain(collection: string, r: Members): boolean {
    if (r.removed === true || r.withdrawn === true) {
      return false;
    }
    const id = text(r.id);
    const done = this.db.run(
      `INSERT INTO records (collection, id, revision, removed, fields, marks, author, device, edited_at, received_at)
         VALUES (?, ?, ?, 0, ?, ?, ?, ?, ?, ?)
       ON CONFLICT (collection, id) DO UPDATE SET revision = excluded.revision, removed = 0, fields = excluded.fields,
         marks = excluded.marks, author = excluded.author, device = excluded.device, edited_at = excluded.edited_at,
         received_at = excluded.received_at
       WHERE pending = 0 AND withdrawn = 0 AND lost = '' AND revision < excluded.revision`,
      [
        collection,
        id,
        Number(r.revision),
        write(r.fields ?? {}),
        write(r.marks ?? {}),
        text(r.author),
        text(r.device),
        text(r.edited_at),
        text(r.received_at),
      ],
    );
    if (done === 1) {
      this.note(collection, id, false);
    }
    return done === 1;
  }

  /** Puts central's new state of a record under what this device has not sent yet. */
  protected layUnder(collection: string, known: Stored | undefined, record: Sent): void {
    if (!known && record.removed) {
      return;
    }
    const row = known ?? stored(collection, record.id);
    const before = underOf(row);
    if (before.revision >= record.revision && row.withdrawn === 0 && row.lost === "") {
      return;
    }
    if (row.lost !== "") {
      this.keepLostValues(row, before, record);
    }
    this.note(collection, record.id, record.removed);
    const by = { under_by: byOf(record.author, record.device, record.editedAt) };
    this.rebuild({ ...row, ...lastEdit(record), ...by, withdrawn: 0, lost: "" }, stateOf(record, before));
  }

  protected withdraw(collection: string, record: Sent): void {
    const row = this.load(collection, record.id);
    if (row && !(row.lost !== "" && record.revision === 0)) {
      // Otherwise central has nothing of it to withdraw: it may have lost it.
      this.letGo({ ...row, withdrawn: Math.max(row.withdrawn, record.revision) });
    }
  }

  /** Keeps what the store had of a record when a restored central has an older state of it. */
  private keepLostValues(row: Stored, known: State, now: Sent): void {
    const fields = writeFields(known.fields);
    if (known.revision <= now.revision || known.removed || (!now.removed && fields === writeFields(now.fields))) {
      return;
    }
    this.db.run(
      `INSERT INTO lost_values (collection, id, revision, fields, marks, removed) VALUES (?, ?, ?, ?, ?, ?)
         ON CONFLICT (collection, id) DO UPDATE SET revision = excluded.revision, fields = excluded.fields,
           marks = excluded.marks, removed = excluded.removed WHERE lost_values.revision < excluded.revision`,
      [row.collection, row.id, known.revision, fields, row.marks, now.removed ? 1 : 0],
    );
  }

  /** Drops a record, or marks that it is to go when its changes are answered. */
  private letGo(row: Stored): void {
    // Of what is lost, the revision is one of the database before it was restored.
    const withdrawn = Math.max(row.withdrawn, row.lost === "" ? row.revision : 0, 1);
    if (row.pending > 0) {
      this.put({ ...row, withdrawn });
    } else {
      this.drop(row);
    }
  }

  /** Lets go of the records that none of the given territories covers. */
  protected dropOutside(c: Collection, held: string[], summary: Summary): void {
    this.within(() => {
      for (const row of this.db.all<Stored>(`SELECT * FROM records WHERE collection = ? AND revision > 0`, [c.name])) {
        if (!covered(held, c.territoriesOf(underOf(row).fields))) {
          summary.withdrawn++;
          this.letGo(row);
        }
      }
    }, true);
  }

  /** What is loaded of a collection, by territory, and what is being loaded. */
  protected coveredOf(name: string): {
    covers: string[];
    gaining: string[] | undefined;
    gained: number;
    cursor: number;
  } {
    const row = this.one<{
      covers: string;
      gaining: string | null;
      gained: number;
      cursor: number;
    }>(`SELECT covers, gaining, gained, cursor FROM collections WHERE name = ?`, [name]);
    return {
      covers: listOf(row?.covers ?? ""),
      gaining: row?.gaining == null ? undefined : listOf(row.gaining),
      gained: row?.gained ?? 0,
      cursor: row?.cursor ?? 0,
    };
  }

  protected setCoverage(name: string, covers: string[]): void {
    this.db.run(`UPDATE collections SET covers = ?, gaining = NULL, gained = 0 WHERE name = ?`, [write(covers), name]);
  }

  protected setGaining(name: string, covers: string[], gaining: string[]): void {
    this.db.run(`UPDATE collections SET covers = ?, gaining = ?, gained = 0 WHERE name = ?`, [
      write(covers),
      write(gaining),
      name,
    ]);
  }
}

/** Reads a record as central sends it. A removed one comes without fields; those known before are kept under it. */
export function sentOf(r: Members, before: State | undefined): Sent {
  const removed = r.removed === true;
  const revision = Number(r.revision ?? 0);
  return {
    id: text(r.id),
    revision,
    removed,
    withdrawn: r.withdrawn === true,
    fields: removed ? (before?.fields ?? blank()) : readFields(r.fields),
    marks: removed ? { ...(before?.marks ?? noMarks), presence: { ...noMark, revision } } : marksFrom(r.marks),
    author: text(r.author),
    device: text(r.device),
    editedAt: text(r.edited_at),
    receivedAt: text(r.received_at),
  };
}

export function stateOf(r: Sent, before: State): State {
  return {
    ...before,
    revision: r.revision,
    removed: r.removed,
    fields: r.fields,
    marks: r.marks,
  };
}

export function lastEdit(r: Sent): Pick<Stored, "author" | "device" | "edited_at" | "received_at"> {
  return {
    author: r.author,
    device: r.device,
    edited_at: r.editedAt,
    received_at: r.receivedAt,
  };
}

function renamed(fields: Fields, names: { [earlier: string]: string }): Fields {
  const all: Fields = blank();
  for (const [name, value] of Object.entries(fields)) {
    all[names[name] ?? name] = value;
  }
  return all;
}

function renamedMarks(marks: Marks, names: { [earlier: string]: string }): Marks {
  const path = (old: string) => {
    const [name = "", ...rest] = old.split("/");
    return [names[name] ?? name, ...rest].join("/");
  };
  const under = <T>(all: { [name: string]: T }) =>
    blank(Object.fromEntries(Object.entries(all).map(([name, one]) => [path(name), one])));
  return {
    ...marks,
    fields: under(marks.fields),
    disputes: under(marks.disputes),
  };
}

export function members(value: Value | undefined): Members {
  return isObject(value) ? value : blank<Value>();
}

export function list(value: Value | undefined): Members[] {
  return isArray(value) ? value.filter(isObject) : [];
}

export function text(value: Value | undefined): string {
  return typeof value === "string" ? value : "";
}

function texts(value: Value | undefined): { [name: string]: string } {
  return Object.fromEntries(Object.entries(members(value)).map(([name, one]) => [name, text(one)]));
}
