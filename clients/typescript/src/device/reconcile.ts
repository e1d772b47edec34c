// A central that was restored from a backup: what it had accepted of this store is offered again, and nothing that is here
// goes before central has said that it is not to be here.
import { parse, write } from "../core/json.ts";
import * as stamps from "../core/stamp.ts";
import { apply, blank, diff, markOf, readMarks, writeFields, type Delta, type Fields } from "../core/state.ts";
import { DeviceError } from "./errors.ts";
import { Answers } from "./answers.ts";
import { answeredBefore, fieldsOf, stored, type Stored } from "./shelf.ts";

/** What this device has and central lost when it was restored from a backup, and nobody has offered again so far. */
export interface LostRecord {
  collection: string;
  id: string;
  label: string;
  /** Central does not have the record at all. */
  whole: boolean;
  /** Central has the record removed again, since it lost that it was brought back. */
  removed: boolean;
  /** From what central has to what it had. */
  fields: Delta;
  /** The last of these edits, in central's time, in milliseconds. */
  editedAt: number;
}

export class Reconciler extends Answers {
  /** Begins anew with a central that was restored. What it has accepted of this store goes into the outbox again. */
  protected reconcile(old: string, generation: string): void {
    this.within(() => {
      const now: [string, string[]][] = [
        [`UPDATE records SET lost = ?, withdrawn = 0 WHERE lost = '' AND revision > 0`, [old]],
        [`UPDATE outbox SET generation = ? WHERE generation = ''`, [old]],
        [
          `INSERT INTO records (collection, id, revision, removed, fields, lost)
             SELECT DISTINCT collection, record, 0, 1, '{}', ?1 FROM travelled WHERE kept IS NULL ON CONFLICT DO NOTHING`,
          [old],
        ],
        // What has travelled twice, since a copy had used its number meanwhile, is known under the number that it got last.
        [
          `INSERT INTO outbox (number, collection, record, kind, base, fields, stamp, edited_at, author, origin, generation, grp,
             grp_of, seen, folds, digests, parts, kept, sealed, boot, line)
             SELECT number, collection, record, kind, base, fields, stamp, edited_at, author, origin, generation, grp, grp_of,
               seen, folds, digests, parts, kept, sealed, ?, 0
             FROM travelled WHERE rowid IN (SELECT max(rowid) FROM travelled
               WHERE number NOT IN (SELECT number FROM outbox) GROUP BY number)`,
          [answeredBefore],
        ],
        // Who has left since is listed again, so that somebody sees that theirs waits.
        [
          `INSERT INTO people (name, place, role, territories) SELECT DISTINCT author, (SELECT count(*) FROM people), 'worker', '[]'
             FROM outbox WHERE true ON CONFLICT DO NOTHING`,
          [],
        ],
        [
          `UPDATE records SET pending = (SELECT count(*) FROM outbox o WHERE o.collection = records.collection
             AND o.record = records.id), under_fields = coalesce(under_fields, fields) WHERE lost <> ''`,
          [],
        ],
        [`UPDATE collections SET cursor = 0, seal = '', head = 0, loading = 1, gaining = NULL, gained = 0`, []],
      ];
      for (const [statement, params] of now) {
        this.db.run(statement, params);
      }
      this.setFact("renewed", "true");
      this.setFact("seal", ""); // what it says was so in the generation before
      this.setFact("settings-told", "?"); // whether it has heard of them is not known
      this.setFact("generation", generation);
      this.dateAgain();
    });
  }

  /** Gives the changes that are offered again the time that central once gave them. */
  private dateAgain(): void {
    const rows = this.db.all<{ number: number; dated: string; unsure: number }>(
      `SELECT o.number, max(t.dated) AS dated, max(t.unsure) AS unsure FROM outbox o JOIN travelled t ON t.number = o.number
         WHERE o.boot = ? GROUP BY o.number`,
      [answeredBefore],
    );
    for (const { number, dated, unsure } of rows) {
      const millis = stamps.millisOf(dated);
      if (millis > 0) {
        this.db.run(`UPDATE outbox SET line = ?, unsure = ? WHERE number = ?`, [millis, unsure, number]);
      } else {
        this.db.run(`UPDATE outbox SET boot = '', line = 0, unsure = ? WHERE number = ?`, [unsure, number]);
      }
    }
  }

  /** Lets go of what was only here since it was offered again, and what central has no record of. */
  protected dropUnknown(): void {
    this.within(() => {
      const gone = this.db.all<Stored>(`SELECT * FROM records WHERE lost <> '' AND pending = 0 AND revision = 0`);
      for (const row of gone) {
        this.drop(row);
      }
    }, true);
  }

  /** Lets go of lost values that central has again, or has something later in place of. */
  protected pruneLostValues(): void {
    this.within(() => {
      this.db.run(
        `UPDATE lost_values SET removed = 0 WHERE removed = 1 AND EXISTS (SELECT 1 FROM records r
           WHERE r.collection = lost_values.collection AND r.id = lost_values.id AND r.removed = 0 AND r.pending = 0)`,
      );
      const rows = this.db.all<{
        collection: string;
        id: string;
        fields: string;
        marks: string;
        now: string;
        then: string;
      }>(
        `SELECT l.collection, l.id, l.fields, l.marks, coalesce(r.under_fields, r.fields) AS now, r.marks AS "then"
           FROM lost_values l JOIN records r ON r.collection = l.collection AND r.id = l.id
           WHERE l.removed = 0 AND r.revision > 0`,
      );
      for (const row of rows) {
        const [had, now] = [fieldsOf(row.fields), fieldsOf(row.now)];
        const [marks, nowMarks] = [readMarks(row.marks), readMarks(row.then)];
        const left = Object.entries(had).filter(
          ([name, value]) => value !== now[name] && markOf(nowMarks, name).stamp < markOf(marks, name).stamp,
        );
        if (left.length === 0) {
          this.db.run(`DELETE FROM lost_values WHERE collection = ? AND id = ?`, [row.collection, row.id]);
        } else {
          const fields = writeFields(blank(Object.fromEntries(left)));
          this.db.run(`UPDATE lost_values SET fields = ? WHERE collection = ? AND id = ?`, [
            fields,
            row.collection,
            row.id,
          ]);
        }
      }
    });
  }

  /** Lists what central has lost and nobody has offered again. */
  lostRecords(): LostRecord[] {
    this.mustBeSomebody();
    const whole = this.db.all<Stored>(
      `SELECT * FROM records WHERE lost <> '' AND pending = 0 AND NOT removed ORDER BY collection, id`,
    );
    const all = whole.map((row) => ({
      ...this.lostOf(row, blank(), row.fields, row.marks),
      whole: true,
    }));
    const values = this.db.all<{
      collection: string;
      id: string;
      fields: string;
      marks: string;
      removed: number;
    }>(`SELECT * FROM lost_values ORDER BY collection, id`);
    for (const v of values) {
      const row = this.load(v.collection, v.id);
      if (!row && v.removed) {
        all.push({
          ...this.lostOf(stored(v.collection, v.id), blank(), v.fields, v.marks),
          removed: true,
        });
      }
      if (!row || row.removed || row.pending > 0) {
        continue; // gone since, or being changed
      }
      const had = fieldsOf(v.fields);
      const now = Object.entries(fieldsOf(row.fields)).filter(([name]) => had[name] !== undefined);
      const lost = this.lostOf(row, blank(Object.fromEntries(now)), v.fields, v.marks);
      if (Object.keys(lost.fields).length > 0) {
        all.push(lost);
      }
    }
    return all;
  }

  private lostOf(row: Stored, now: Fields, then: string, marked: string): LostRecord {
    const c = this.collection(row.collection);
    const had = fieldsOf(then);
    const marks = readMarks(marked);
    const fields = diff(now, had);
    let edited = marks.base.stamp;
    for (const name of Object.keys(fields)) {
      if (!c.field(name) || c.field(name)?.local || c.unsettable(name)) {
        delete fields[name];
      } else if (markOf(marks, name).stamp > edited) {
        edited = markOf(marks, name).stamp;
      }
    }
    return {
      collection: row.collection,
      id: row.id,
      label: c.labelOf(had),
      whole: false,
      removed: false,
      fields,
      editedAt: stamps.millisOf(edited),
    };
  }

  private lostRecord(collection: string, id: string): LostRecord {
    const lost = this.lostRecords().find((one) => one.collection === collection && one.id === id);
    if (!lost) {
      throw new DeviceError("no-record", "central has lost nothing of it, or has it again");
    }
    return lost;
  }

  /** Saves what central has lost of a record as a change of whoever is signed in, dated as the edits were. */
  offerLost(collection: string, id: string): void {
    const lost = this.lostRecord(collection, id);
    if (lost.removed) {
      throw new DeviceError("not-allowed", "central has the record removed, since it lost that it was brought back");
    }
    this.within(() => {
      const c = this.collection(collection);
      this.maySave(c);
      const row = this.load(collection, id) ?? stored(collection, id);
      if (lost.whole) {
        const anew = { ...stored(collection, id), local: row.local };
        this.putChange(anew, 0, "add", lost.fields, apply(blank(), lost.fields));
      } else {
        this.putChange(row, row.revision, "edit", lost.fields, apply(fieldsOf(row.fields), lost.fields));
      }
      this.db.run(`UPDATE outbox SET boot = ?, line = ? WHERE number = (SELECT max(number) FROM outbox)`, [
        answeredBefore,
        lost.editedAt,
      ]);
    });
  }

  /** Lets go of what central has lost of a record, after writing it to the end of a file. */
  dropLost(collection: string, id: string, path: string): void {
    const lost = this.lostRecord(collection, id);
    this.db.append(path, [
      `{"collection":${write(collection)},"id":${write(id)},"label":${write(lost.label)},"fields":${write(
        parse(JSON.stringify(lost.fields)),
      )}}`,
    ]);
    this.within(() => {
      this.db.run(`DELETE FROM lost_values WHERE collection = ? AND id = ?`, [collection, id]);
      const row = this.load(collection, id);
      if (row && row.lost !== "" && row.pending === 0) {
        this.drop(row);
      }
    });
  }
}
