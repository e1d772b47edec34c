// Several unsent edits of one record that become one change.
import { changeDigest } from "../core/fingerprint.ts";
import { parse } from "../core/json.ts";
import { blank, readDelta, sameSource, writeDelta, type Delta, type Source } from "../core/state.ts";
import { Receiver } from "./receiver.ts";
import type { Entry } from "./shelf.ts";

const maxFolds = 10_000;

export class Folder extends Receiver {
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
        if (before && !c.everyStep && takes(before, q, delta, !c.coverage)) {
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

  protected countPending(q: Entry): void {
    this.db.run(
      `UPDATE records SET pending = (SELECT count(*) FROM outbox o WHERE o.collection = records.collection
         AND o.record = records.id) WHERE collection = ? AND id = ?`,
      [q.collection, q.record],
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
  digests: string[];
  /** Those before the last, as they were saved. */
  parts: Entry[];
  seen: Source[];
  /** It comes after one that got a new number, and numbers of a record go up. */
  renumber: boolean;
}

/** Whether a run takes one more in. Alone says that nobody else can have added the record. */
function takes(f: Folding, next: Entry, delta: Delta, alone: boolean): boolean {
  const free = (q: Entry) =>
    q.state === "new" && q.grp === "" && q.fields !== "{}" && q.origin === "" && q.generation === "";
  const again = (alone && f.first.kind === "add") || Object.keys(f.delta).every((name) => delta[name] !== undefined);
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
export type Part = Pick<
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
