// What central says, taken in: definitions, answers, pages, territories. Each in one transaction; nothing here waits for
// anybody.
import { Collection, covers as covered } from "../core/definition.ts";
import { changeDigest } from "../core/fingerprint.ts";
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
  sameSource,
  writeDelta,
  writeFields,
  writeMarks,
  type Delta,
  type Fields,
  type Marks,
  type Source,
  type State,
} from "../core/state.ts";
import { DeviceError } from "./errors.ts";
import { Finder } from "./find.ts";
import { peopleOf, type Turn } from "./house.ts";
import { byOf, fieldsOf, lay, listOf, stored, underOf, type Entry, type Stored } from "./shelf.ts";

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
const keepTravelled = 30 * 24 * 3600 * 1000; // milliseconds
const mostTravelled = 50_000;

export class Receiver extends Finder {
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

  /** Makes one change of several unsent edits of a record, where nothing is lost by it and none has ever been sent. */
  protected fold(): void {
    this.within(() => {
      const open = this.db.all<Entry>(
        `SELECT * FROM outbox WHERE (collection, record) IN
           (SELECT collection, record FROM outbox WHERE state = 'new' AND kept IS NULL GROUP BY collection, record HAVING count(*) > 1)
         ORDER BY number`,
      );
      const last = new Map<string, Folding>();
      for (const q of open) {
        const key = `${q.collection} ${q.record}`;
        const c = this.collection(q.collection);
        const delta = c.presentNames(readDelta(parse(q.fields)));
        const before = last.get(key);
        if (before && !c.everyStep && takes(before, q, delta)) {
          before.numbers.push(before.last.number, ...(JSON.parse(q.folds) as number[]));
          before.digests.push(digestOf(before.last), ...(JSON.parse(q.digests) as string[]));
          before.delta = followed(before.delta, delta);
          before.parts.push(before.last);
          for (const one of JSON.parse(q.seen) as Source[]) {
            if (!before.seen.some((known) => sameSource(known, one))) {
              before.seen.push(one);
            }
          }
          before.last = q;
          continue;
        }
        const folding: Folding = {
          parts: [],
          seen: JSON.parse(q.seen) as Source[],
          first: q,
          last: q,
          delta,
          numbers: JSON.parse(q.folds) as number[],
          digests: JSON.parse(q.digests) as string[],
          renumber: false,
        };
        if (before) {
          this.writeFolding(before);
          folding.renumber = before.first.number !== before.last.number || before.renumber;
        }
        last.set(key, folding);
      }
      const rest = [...last.values()].sort((a, b) => a.last.number - b.last.number);
      for (const folding of rest) {
        this.writeFolding(folding);
      }
    });
  }

  /** A folded change has the stamp of the last, a number of its own, and goes where the first would have gone. */
  private writeFolding(f: Folding): void {
    if ((f.first.number === f.last.number && !f.renumber) || f.last.state !== "new") {
      return;
    }
    const folds = JSON.stringify([...f.numbers, f.last.number]);
    this.db.run(
      `INSERT INTO outbox (collection, record, kind, base, fields, stamp, edited_at, author, boot, line, grp, grp_of, origin,
           generation, seen, folds, digests, parts, place)
         SELECT collection, record, ?, base, ?, stamp, edited_at, author, boot, line, grp, grp_of, origin, generation, ?, ?, ?, ?, ?
           FROM outbox WHERE number = ?`,
      [
        f.first.kind,
        writeDelta(f.delta),
        JSON.stringify(f.seen),
        folds,
        JSON.stringify([...f.digests, digestOf(f.last)]),
        partsOf([...f.parts, f.last]),
        f.first.place ?? f.first.number,
        f.last.number,
      ],
    );
    this.db.run(`DELETE FROM outbox WHERE number IN (SELECT value FROM json_each(?))`, [folds]);
    this.countPending(f.last);
  }

  private countPending(q: Entry): void {
    this.db.run(
      `UPDATE records SET pending = (SELECT count(*) FROM outbox o WHERE o.collection = records.collection
         AND o.record = records.id) WHERE collection = ? AND id = ?`,
      [q.collection, q.record],
    );
  }

  /** Stores the answers to a batch and their effect. Counts go into the summary. */
  protected async takeAnswers(
    changes: Entry[],
    answers: Members[],
    sent: Members,
    summary: Summary,
    uncertain: (q: Entry) => number,
  ): Promise<void> {
    const told = new Map<number, string>();
    for (const [n, q] of changes.entries()) {
      if (q.kept !== null && !accepted(answers[n])) {
        const why = isAnothers(q, answers[n]) && q.parts !== "[]" ? copiedInPart : write(answers[n]?.reasons ?? []);
        told.set(q.number, await this.tellAside(q.author, why));
      }
    }
    this.within(() => {
      // What waited for something further down in the batch may have become a later revision than what stands behind it.
      const places = answers.map((_, n) => n).sort((a, b) => revisionOf(answers[a]) - revisionOf(answers[b]) || a - b);
      let highest = Number(this.fact("answered"));
      const anew = new Set<string>(); // groups of which a number is another's
      for (const [n, q] of changes.entries()) {
        if (isAnothers(q, answers[n])) {
          this.isOurs(q, told);
          anew.add(q.grp);
        }
      }
      for (const n of places) {
        const q = changes[n] as Entry;
        if (isAnothers(q, answers[n]) || (q.grp !== "" && anew.has(q.grp))) {
          continue; // it is answered anew
        }
        this.takeAnswer(q, answers[n] as Members, told);
        this.noteSent(q, answers[n] as Members, uncertain(q));
        highest = Math.max(highest, q.number);
        const verdict = text(answers[n]?.answer) as Verdict;
        if (verdict in summary) {
          summary[verdict]++;
        }
      }
      for (const seal of isArray(sent.seals) ? sent.seals : []) {
        this.db.run(`UPDATE collections SET seal = ? WHERE name = ?`, [text(seal), text(seal).split(".")[0] ?? ""]);
      }
      if (sent.torn === true && changes[0]?.origin === "") {
        this.setFact("torn", "true"); // what central left out as this store's own need not be here
      }
      this.setFact("answered", String(highest));
    }, true);
  }

  /** Keeps a change that central has accepted, for one that is restored to before that. */
  private noteSent(q: Entry, answer: Members, unsure: number): void {
    if (!accepted(answer)) {
      return;
    }
    this.db.run(
      `INSERT INTO travelled (at, number, collection, record, kind, base, fields, stamp, dated, unsure, edited_at, author, origin,
         generation, grp, grp_of, seen, folds, digests, parts, kept, sealed)
       VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
      [
        this.time(),
        q.number,
        q.collection,
        q.record,
        q.kind,
        q.base,
        q.fields,
        q.stamp,
        text(answer.stamp),
        unsure,
        q.edited_at,
        q.author,
        q.origin,
        q.generation || this.fact("generation"),
        q.grp,
        q.grp_of,
        q.seen,
        q.folds,
        q.digests,
        q.parts,
        q.kept,
        q.sealed,
      ],
    );
  }

  /** Keeps what has travelled within its bounds. */
  protected forgetTravelled(): void {
    this.db.run(`DELETE FROM travelled WHERE at < ? OR rowid <= (SELECT max(rowid) FROM travelled) - ?`, [
      new Date(this.now() - keepTravelled).toISOString(),
      mostTravelled,
    ]);
  }

  /**
   * Deals with a change whose number, under an earlier source, another store has used for something else: nobody has sent
   * it, and it goes under its author's present one, with its group. Of one that stands for several, each is tried on its
   * own; where these are sealed, it waits for its author.
   */
  private isOurs(q: Entry, told: Map<number, string>): void {
    if (q.kept !== null && q.parts !== "[]") {
      this.db.run(`UPDATE outbox SET state = 'waiting', reasons = NULL, told = ? WHERE number = ?`, [
        told.get(q.number) ?? null,
        q.number,
      ]);
      return;
    }
    if (q.parts !== "[]") {
      this.db.run(`DELETE FROM outbox WHERE number = ?`, [q.number]);
      for (const p of JSON.parse(q.parts) as Part[]) {
        this.db.run(
          `INSERT INTO outbox (number, collection, record, kind, base, fields, stamp, edited_at, author, boot, line, origin,
             generation, place, seen) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
          [
            p.number,
            q.collection,
            q.record,
            p.kind,
            p.base,
            p.fields,
            p.stamp,
            p.edited_at,
            p.author,
            p.boot,
            p.line,
            q.origin,
            q.generation,
            q.place,
            p.seen,
          ],
        );
      }
      this.countPending(q);
      return;
    }
    this.db.run(
      `UPDATE outbox SET origin = ?3, state = 'new', reasons = NULL, batch = NULL WHERE number = ?1 OR ?2 <> '' AND grp = ?2`,
      [q.number, q.grp, this.freshSource(q.author)],
    );
  }

  /**
   * Gives a store an incarnation of its own when central has said that another store has used its numbers: one of the two
   * is a copy of the other. It says whether there is anything to send then.
   */
  protected async partFromCopy(summary: Summary): Promise<boolean> {
    if (this.fact("torn") === "") {
      return false;
    }
    const told = new Map<number, string>();
    for (const q of this.refusedAsAnothers().filter((one) => one.kept !== null && one.parts !== "[]")) {
      told.set(q.number, await this.tellAside(q.author, copiedInPart));
    }
    return this.within(() => {
      this.newIncarnation();
      const refused = this.refusedAsAnothers().filter((q) => q.origin !== "");
      for (const q of refused) {
        this.isOurs(q, told);
      }
      summary.refused -= Math.min(refused.length, summary.refused); // they are answered anew
      return this.db.all(`SELECT 1 FROM outbox WHERE state IN ('new', 'sent') LIMIT 1`).length > 0;
    });
  }

  private refusedAsAnothers(): Entry[] {
    return this.db.all<Entry>(
      `SELECT * FROM outbox WHERE state = 'refused'
         AND EXISTS (SELECT 1 FROM json_each(reasons) r WHERE r.value->>'code' = 'number-reused') ORDER BY number`,
    );
  }

  /**
   * Stores the answer to a change that cannot be read here, since whoever made it is not signed in. What became of the
   * record comes with the answer.
   */
  private takeAnswerAside(q: Entry, answer: Members, told: Map<number, string>): void {
    if (!accepted(answer)) {
      this.db.run(`UPDATE outbox SET state = ?, reasons = ?, told = ? WHERE number = ?`, [
        text(answer.answer) === "refused" ? "refused" : "waiting",
        saysReused(answer) ? `[{"code":"number-reused"}]` : null, // what an exchange must know, and says nothing of the change
        told.get(q.number) ?? null,
        q.number,
      ]);
      return;
    }
    this.db.run(`DELETE FROM outbox WHERE number = ?`, [q.number]);
    const collection = text(answer.collection);
    if (!isObject(answer.record) || collection === "") {
      return; // it came as part of another, and what became of it comes with the next pull
    }
    const row = this.load(collection, text(answer.record.id));
    const record = sentOf(answer.record, row ? underOf(row) : undefined);
    if (!record.withdrawn) {
      this.layUnder(collection, row, record);
    } else if (row && (record.revision > row.revision || row.lost !== "")) {
      this.withdraw(collection, record);
    }
  }

  private takeAnswer(q: Entry, answer: Members, told: Map<number, string>): void {
    if (q.kept !== null) {
      this.takeAnswerAside(q, answer, told);
      return;
    }
    const verdict = text(answer.answer);
    if (!accepted(answer)) {
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
      throw new DeviceError("damaged", `change ${q.number} is of a record that is not here`);
    }
    let under = underOf(row);
    const record = isObject(answer.record) ? sentOf(answer.record, under) : undefined;
    const revision = revisionOf(answer);
    if (record?.withdrawn && (record.revision > under.revision || row.lost !== "")) {
      row.withdrawn = Math.max(record.revision, 1); // accepted, but not for this worker to see
      // Should the worker cover it again before the next pull, it must come, though this device has sent it.
      this.db.run(`UPDATE collections SET loading = 1 WHERE name = ?`, [q.collection]);
    } else if (record && !record.withdrawn && revision > row.withdrawn) {
      row.withdrawn = 0; // it has come back into what the worker covers
    }
    if (revision > under.revision || (row.lost !== "" && record) || (revision === 0 && record?.withdrawn)) {
      if (record && !record.withdrawn) {
        row.lost = "";
        under = stateOf(record, under);
        Object.assign(row, lastEdit(record));
        row.under_by = byOf(record.author, record.device, record.editedAt);
      } else {
        row.under_by = byOf(q.author, row.device, q.edited_at);
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
  private layUnder(collection: string, known: Stored | undefined, record: Sent): void {
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

  private withdraw(collection: string, record: Sent): void {
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

/** A run of edits of one record that become one change. */
interface Folding {
  first: Entry;
  last: Entry;
  delta: Delta;
  /** Of those before the last, and of what they had folded. */
  numbers: number[];
  digests: string[];
  /** Those before the last, as they were saved. */
  parts: Entry[];
  seen: Source[];
  /** It comes after one that got a new number, and numbers of a record go up. */
  renumber: boolean;
}

function takes(f: Folding, next: Entry, delta: Delta): boolean {
  const free = (q: Entry) =>
    q.state === "new" && q.grp === "" && q.fields !== "{}" && q.origin === "" && q.generation === "";
  const again = f.first.kind === "add" || Object.keys(f.delta).every((name) => delta[name] !== undefined);
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

/** The digest of a change as it would have been sent. */
function digestOf(q: Entry): string {
  return changeDigest({
    number: q.number,
    base: q.base,
    stamp: q.stamp,
    editedAt: Date.parse(q.edited_at),
    collection: q.collection,
    record: q.record,
    kind: q.kind,
    author: q.author,
    ...(q.grp === "" ? {} : { group: { id: q.grp, of: q.grp_of } }),
    seen: JSON.parse(q.seen) as Source[],
    folds: JSON.parse(q.folds) as number[],
    fields: readDelta(parse(q.fields)),
  });
}

/** A change as it was saved, before it was folded into another. */
type Part = Pick<
  Entry,
  "number" | "kind" | "base" | "fields" | "stamp" | "edited_at" | "author" | "boot" | "line" | "seen"
>;

/** Writes changes, and what they were folded from, as the parts of another. */
function partsOf(changes: Entry[]): string {
  const all = changes.flatMap((q): Part[] => {
    const own = JSON.parse(q.parts) as Part[];
    const { number, kind, base, fields, stamp, edited_at, author, boot, line, seen } = q;
    return own.length > 0
      ? own
      : [
          {
            number,
            kind,
            base,
            fields,
            stamp,
            edited_at,
            author,
            boot,
            line,
            seen,
          },
        ];
  });
  return JSON.stringify(all);
}

/** Why what stands for several changes waits for its author, as JSON: parts of it may be another's. */
const copiedInPart = JSON.stringify([
  {
    code: "number-reused",
    message:
      "another copy of this device has used its number for something else, and may have sent a part of it; exchange, and it goes in",
  },
]);

function accepted(answer: Members | undefined): boolean {
  return ["applied", "merged", "held"].includes(text(answer?.answer));
}

function saysReused(answer: Members | undefined): boolean {
  return list(answer?.reasons).some((reason) => text(reason.code) === "number-reused");
}

/** Whether the number of a change, under an earlier source of this store, was used by a copy of it. */
function isAnothers(q: Entry, answer: Members | undefined): boolean {
  return q.origin !== "" && text(answer?.answer) === "refused" && saysReused(answer);
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
    marks: removed ? { ...(before?.marks ?? noMarks), presence: { ...noMark, revision } } : marksFrom(r.marks),
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

function lastEdit(r: Sent): Pick<Stored, "author" | "device" | "edited_at" | "received_at"> {
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
