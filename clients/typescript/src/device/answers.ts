// Central's answers, taken in: what was accepted leaves the outbox, what was refused or waits stays with its reasons.
import { isArray, write } from "../core/json.ts";
import type { Verdict } from "../core/merge.ts";
import { isObject } from "../core/state.ts";
import { DeviceError } from "./errors.ts";
import { Folder, type Part } from "./fold.ts";
import { lastEdit, list, sentOf, stateOf, text, type Members, type Summary } from "./receiver.ts";
import { byOf, lay, underOf, type Entry } from "./shelf.ts";

const keepTravelled = 30 * 24 * 3600 * 1000; // milliseconds
const mostTravelled = 50_000;

export class Answers extends Folder {
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
