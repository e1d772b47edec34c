// What central says, taken in: definitions, answers, pages, territories. Each in one transaction; nothing here waits for
// anybody.
import { covers as covered, type Collection } from "../core/definition.ts";
import { isArray, parse, write, type Value } from "../core/json.ts";
import type { Verdict } from "../core/merge.ts";
import * as stamps from "../core/stamp.ts";
import {
  blank,
  isObject,
  marksFrom,
  noMark,
  noMarks,
  readDelta,
  readFields,
  readMarks,
  writeDelta,
  writeFields,
  writeMarks,
  type Delta,
  type Fields,
  type Marks,
  type State,
} from "../core/state.ts";
import { DeviceError } from "./errors.ts";
import { Finder } from "./find.ts";
import {
  fieldsOf,
  lay,
  listOf,
  stored,
  underOf,
  type Entry,
  type Stored,
} from "./shelf.ts";

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
interface Sent {
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

const maxFolds = 10_000;

export class Receiver extends Finder {
  /** Takes over the definitions, and what the worker is and holds. */
  protected takeDefinitions(sent: Members): void {
    this.within(() => {
      const rules = members(sent.rules);
      for (const definition of list(sent.definitions)) {
        const name = text(definition.collection);
        const doc = write(definition);
        const before = this.one<{ doc: string; rules: string }>(
          `SELECT doc, rules FROM collections WHERE name = ?`,
          [name],
        );
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
        if (c.parent) {
          this.db.run(
            `CREATE INDEX IF NOT EXISTS records_parent_${name}_${c.parent.field} ON records (fields->>'$.${c.parent.field}')
               WHERE collection = '${name}'`,
          );
        }
        this.layAnew(
          c,
          before ? texts(members(parse(before.doc)).renamed) : {},
        );
      }
      this.takePerson(sent);
    }, true);
  }

  /** Lays what is unsent over what central said by a new definition, under the names that fields have now. */
  private layAnew(c: Collection, before: { [earlier: string]: string }): void {
    const fresh = Object.entries(c.renamed).filter(
      ([earlier, now]) => before[earlier] !== now,
    );
    for (const row of this.db.all<Stored>(
      `SELECT * FROM records WHERE collection = ?`,
      [c.name],
    )) {
      if (fresh.length > 0) {
        const names = Object.fromEntries(fresh);
        const under =
          row.under_fields === null
            ? null
            : writeFields(renamed(fieldsOf(row.under_fields), names));
        const marks =
          row.marks === ""
            ? ""
            : writeMarks(renamedMarks(readMarks(row.marks), names));
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

  private takePerson(sent: Members): void {
    const worker = this.fact("worker");
    const people = list(sent.people);
    const who = people.find((one) => text(one.name) === worker);
    if (who) {
      this.setFact("role", text(who.role));
      this.setFact("territories", write(who.territories ?? []));
    }
    this.setFact("held", write(sent.territories ?? []));
    this.setFact("sight", text(sent.sight));
  }

  /** Makes collections load from the start whose reading rule may decide otherwise than when they were loaded. */
  protected lookAnew(): void {
    this.within(() => {
      const sight = this.fact("sight");
      for (const c of this.definitions().values()) {
        if (!c.readable) {
          continue;
        }
        this.db.run(
          `UPDATE collections SET cursor = 0, head = 0, loading = 1, gaining = NULL, gained = 0
             WHERE name = ? AND sight <> ? AND sight <> ''`,
          [c.name, sight],
        );
        this.db.run(`UPDATE collections SET sight = ? WHERE name = ?`, [
          sight,
          c.name,
        ]);
      }
    });
  }

  /** Makes one change of several unsent edits of a record, where nothing is lost by it and none has ever been sent. */
  protected fold(): void {
    this.within(() => {
      const open = this.db.all<Entry>(
        `SELECT * FROM outbox WHERE (collection, record) IN
           (SELECT collection, record FROM outbox WHERE state = 'new' GROUP BY collection, record HAVING count(*) > 1)
         ORDER BY number`,
      );
      const last = new Map<string, Folding>();
      for (const q of open) {
        const key = `${q.collection} ${q.record}`;
        const c = this.collection(q.collection);
        const delta = c.presentNames(readDelta(parse(q.fields)));
        const before = last.get(key);
        if (before && !c.everyStep && takes(before, q, delta)) {
          before.numbers.push(
            before.last.number,
            ...(JSON.parse(q.folds) as number[]),
          );
          before.delta = followed(before.delta, delta);
          before.last = q;
          continue;
        }
        const folding: Folding = {
          first: q,
          last: q,
          delta,
          numbers: JSON.parse(q.folds) as number[],
          renumber: false,
        };
        if (before) {
          this.writeFolding(before);
          folding.renumber =
            before.first.number !== before.last.number || before.renumber;
        }
        last.set(key, folding);
      }
      const rest = [...last.values()].sort(
        (a, b) => a.last.number - b.last.number,
      );
      for (const folding of rest) {
        this.writeFolding(folding);
      }
    });
  }

  /** A folded change has the stamp of the last, a number of its own, and goes where the first would have gone. */
  private writeFolding(f: Folding): void {
    if (
      (f.first.number === f.last.number && !f.renumber) ||
      f.last.state !== "new"
    ) {
      return;
    }
    const folds = JSON.stringify([...f.numbers, f.last.number]);
    this.db.run(
      `INSERT INTO outbox (collection, record, kind, base, fields, stamp, edited_at, author, boot, line, grp, grp_of, folds, place)
         SELECT collection, record, ?, base, ?, stamp, edited_at, author, boot, line, grp, grp_of, ?, ?
           FROM outbox WHERE number = ?`,
      [
        f.first.kind,
        writeDelta(f.delta),
        folds,
        f.first.place ?? f.first.number,
        f.last.number,
      ],
    );
    this.db.run(
      `DELETE FROM outbox WHERE number IN (SELECT value FROM json_each(?))`,
      [folds],
    );
    this.db.run(
      `UPDATE records SET pending = (SELECT count(*) FROM outbox o WHERE o.collection = records.collection
         AND o.record = records.id) WHERE collection = ? AND id = ?`,
      [f.last.collection, f.last.record],
    );
  }

  /** Stores the answers to a batch and their effect. Counts go into the summary. */
  protected takeAnswers(
    changes: Entry[],
    answers: Members[],
    sent: Members,
    summary: Summary,
  ): void {
    this.within(() => {
      // What waited for something further down in the batch may have become a later revision than what stands behind it.
      const places = answers
        .map((_, n) => n)
        .sort(
          (a, b) => revisionOf(answers[a]) - revisionOf(answers[b]) || a - b,
        );
      let highest = Number(this.fact("answered"));
      for (const n of places) {
        const q = changes[n] as Entry;
        this.takeAnswer(q, answers[n] as Members);
        highest = Math.max(highest, q.number);
        const verdict = text(answers[n]?.answer) as Verdict;
        if (verdict in summary) {
          summary[verdict]++;
        }
      }
      for (const seal of isArray(sent.seals) ? sent.seals : []) {
        this.db.run(`UPDATE collections SET seal = ? WHERE name = ?`, [
          text(seal),
          text(seal).split(".")[0] ?? "",
        ]);
      }
      if (sent.torn === true) {
        this.setFact("torn", "true"); // what central left out as this store's own need not be here
      }
      this.setFact("answered", String(highest));
    }, true);
  }

  private takeAnswer(q: Entry, answer: Members): void {
    const verdict = text(answer.answer);
    if (verdict !== "applied" && verdict !== "merged" && verdict !== "held") {
      // The change stays, with the reasons; an answer of a kind that this version does not know counts as waiting.
      this.db.run(`UPDATE outbox SET state = ?, reasons = ? WHERE number = ?`, [
        verdict === "refused" ? "refused" : "waiting",
        write(answer.reasons ?? []),
        q.number,
      ]);
      return;
    }
    const row = this.load(q.collection, q.record);
    if (!row) {
      throw new DeviceError(
        "damaged",
        `change ${q.number} is of a record that is not here`,
      );
    }
    let under = underOf(row);
    const record = isObject(answer.record)
      ? sentOf(answer.record, under)
      : undefined;
    const revision = revisionOf(answer);
    if (record?.withdrawn && record.revision > under.revision) {
      row.withdrawn = Math.max(record.revision, 1); // accepted, but not for this worker to see
      // Should the worker cover it again before the next pull, it must come, though this device has sent it.
      this.db.run(`UPDATE collections SET loading = 1 WHERE name = ?`, [
        q.collection,
      ]);
    } else if (record && !record.withdrawn && revision > row.withdrawn) {
      row.withdrawn = 0; // it has come back into what the worker covers
    }
    if (revision > under.revision || (revision === 0 && record?.withdrawn)) {
      if (record && !record.withdrawn) {
        under = stateOf(record, under);
        Object.assign(row, lastEdit(record));
      } else {
        const c = this.collection(q.collection);
        const edit = { ...this.editOf(c, q), stamp: text(answer.stamp) };
        const { state } = lay(c.rules, under, edit);
        under = {
          ...state,
          revision: Math.max(revision, under.revision, q.base + 1),
        };
      }
    }
    this.db.run(`DELETE FROM outbox WHERE number = ?`, [q.number]);
    this.rebuild(row, under);
  }

  /** Lets what waited before, and was not sent again since an earlier change of its record still waits, wait as it did. */
  protected hang(): void {
    const reasons = JSON.stringify([
      {
        code: "hangs-on-earlier",
        message: "it comes after a change of the same record which waits",
      },
    ]);
    this.db.run(
      `UPDATE outbox AS o SET state = 'waiting', reasons = ? WHERE o.state = 'sent' AND o.batch IS NULL AND o.kind <> 'add'
         AND EXISTS (SELECT 1 FROM outbox w WHERE w.collection = o.collection AND w.record = o.record
           AND w.state = 'waiting' AND w.number < o.number)`,
      [reasons],
    );
  }

  /** Stores a page and its cursor in one transaction, so a kill at any point leaves both or neither. */
  protected takePage(page: Members, gaining: boolean, summary: Summary): void {
    this.within(() => {
      const collection = text(page.collection);
      for (const one of list(page.records)) {
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
      if (gaining) {
        this.db.run(`UPDATE collections SET gained = ? WHERE name = ?`, [
          Number(page.cursor),
          collection,
        ]);
        return;
      }
      this.db.run(
        `UPDATE collections SET cursor = ?1, seal = iif(?2 = '', seal, ?2), head = ?3, pulled_at = ?4,
           loading = (loading OR cursor = 0) AND ?5 WHERE name = ?6`,
        [
          Number(page.cursor),
          text(page.seal),
          Number(page.head),
          this.time(),
          page.more === true ? 1 : 0,
          collection,
        ],
      );
    }, true);
  }

  /** Puts central's new state of a record under what this device has not sent yet. */
  private layUnder(
    collection: string,
    known: Stored | undefined,
    record: Sent,
  ): void {
    if (!known && record.removed) {
      return;
    }
    const row = known ?? stored(collection, record.id);
    const before = underOf(row);
    if (before.revision >= record.revision && row.withdrawn === 0) {
      return;
    }
    this.note(collection, record.id, record.removed);
    this.rebuild(
      { ...row, ...lastEdit(record), withdrawn: 0 },
      stateOf(record, before),
    );
  }

  private withdraw(collection: string, record: Sent): void {
    const row = this.load(collection, record.id);
    if (row) {
      this.letGo({
        ...row,
        withdrawn: Math.max(row.withdrawn, record.revision),
      });
    }
  }

  /** Drops a record, or marks that it is to go when its changes are answered. */
  private letGo(row: Stored): void {
    const withdrawn = Math.max(row.withdrawn, row.revision, 1);
    if (row.pending > 0) {
      this.put({ ...row, withdrawn });
    } else {
      this.drop(row);
    }
  }

  /** Lets go of the records that none of the given territories covers. */
  protected dropOutside(c: Collection, held: string[], summary: Summary): void {
    this.within(() => {
      for (const row of this.db.all<Stored>(
        `SELECT * FROM records WHERE collection = ? AND revision > 0`,
        [c.name],
      )) {
        if (!covered(held, c.territoriesOf(underOf(row).fields))) {
          summary.withdrawn++;
          this.letGo(row);
        }
      }
    }, true);
  }

  /** What is loaded of a collection, by territory, and what is being loaded. */
  protected coverage(name: string): {
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
    }>(
      `SELECT covers, gaining, gained, cursor FROM collections WHERE name = ?`,
      [name],
    );
    return {
      covers: listOf(row?.covers ?? ""),
      gaining: row?.gaining == null ? undefined : listOf(row.gaining),
      gained: row?.gained ?? 0,
      cursor: row?.cursor ?? 0,
    };
  }

  protected setCoverage(name: string, covers: string[]): void {
    this.db.run(
      `UPDATE collections SET covers = ?, gaining = NULL, gained = 0 WHERE name = ?`,
      [write(covers), name],
    );
  }

  protected setGaining(
    name: string,
    covers: string[],
    gaining: string[],
  ): void {
    this.db.run(
      `UPDATE collections SET covers = ?, gaining = ?, gained = 0 WHERE name = ?`,
      [write(covers), write(gaining), name],
    );
  }
}

/** A run of edits of one record that become one change. */
interface Folding {
  first: Entry;
  last: Entry;
  delta: Delta;
  /** Of those before the last, and of what they had folded. */
  numbers: number[];
  /** It comes after one that got a new number, and numbers of a record go up. */
  renumber: boolean;
}

function takes(f: Folding, next: Entry, delta: Delta): boolean {
  const free = (q: Entry) =>
    q.state === "new" && q.grp === "" && q.fields !== "{}";
  const again =
    f.first.kind === "add" ||
    Object.keys(f.delta).every((name) => delta[name] !== undefined);
  return (
    f.numbers.length < maxFolds - 1 &&
    again &&
    free(f.last) &&
    free(next) &&
    f.first.kind !== "remove" &&
    next.kind === "edit" &&
    f.last.base === next.base &&
    f.last.author === next.author &&
    f.last.boot === next.boot
  );
}

/** One delta after another: from the first value to the last. */
function followed(first: Delta, next: Delta): Delta {
  const delta = blank(first);
  for (const [name, edit] of Object.entries(next)) {
    const before = first[name];
    const one = before ? { ...before } : { ...edit };
    delete one.to;
    if (edit.to !== undefined) {
      one.to = edit.to;
    }
    delta[name] = one;
  }
  return delta;
}

function revisionOf(answer: Members | undefined): number {
  return Number(answer?.revision ?? 0);
}

/** Reads a record as central sends it. A removed one comes without fields; those known before are kept under it. */
function sentOf(r: Members, before: State | undefined): Sent {
  const removed = r.removed === true;
  const revision = Number(r.revision ?? 0);
  return {
    id: text(r.id),
    revision,
    removed,
    withdrawn: r.withdrawn === true,
    fields: removed ? (before?.fields ?? blank()) : readFields(r.fields),
    marks: removed
      ? { ...(before?.marks ?? noMarks), presence: { ...noMark, revision } }
      : marksFrom(r.marks),
    author: text(r.author),
    device: text(r.device),
    editedAt: text(r.edited_at),
    receivedAt: text(r.received_at),
  };
}

function stateOf(r: Sent, before: State): State {
  return {
    ...before,
    revision: r.revision,
    removed: r.removed,
    fields: r.fields,
    marks: r.marks,
  };
}

function lastEdit(
  r: Sent,
): Pick<Stored, "author" | "device" | "edited_at" | "received_at"> {
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

function renamedMarks(
  marks: Marks,
  names: { [earlier: string]: string },
): Marks {
  const path = (old: string) => {
    const [name = "", ...rest] = old.split("/");
    return [names[name] ?? name, ...rest].join("/");
  };
  const under = <T>(all: { [name: string]: T }) =>
    blank(
      Object.fromEntries(
        Object.entries(all).map(([name, one]) => [path(name), one]),
      ),
    );
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
  return Object.fromEntries(
    Object.entries(members(value)).map(([name, one]) => [name, text(one)]),
  );
}
