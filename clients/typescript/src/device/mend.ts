// What central has refused, and what somebody makes of it: mended, sent again, or given up. And how a change is written.
import type { Collection } from "../core/definition.ts";
import { parse, write } from "../core/json.ts";
import type { Decision, Kind } from "../core/merge.ts";
import * as stamps from "../core/stamp.ts";
import {
  apply,
  blank,
  diff,
  edited,
  readDelta,
  writeDelta,
  writeFields,
  type Delta,
  type Fields,
} from "../core/state.ts";
import { DeviceError } from "./errors.ts";
import { House } from "./house.ts";
import { byOf, fieldsOf, underOf, type DeviceRecord, type Entry, type Stored } from "./shelf.ts";

/** A change that takes the place of others. */
interface Mended {
  kind: Kind;
  base: number;
  delta: Delta;
}

const maxGroup = 400;

export class Mender extends House {
  /** Offers central once more what it has refused of a record, as it is. */
  sendAgain(number: number): DeviceRecord {
    const { collection, id } = this.refused(number);
    this.keepWhatIsLeftOut(collection, id);
    return this.within(() => {
      const row = this.refused(number);
      const [now, decisions] = this.mendTogether(row, (one) => this.again(one));
      return this.show(this.collection(row.collection), now, decisions);
    });
  }

  /** Gives up what central has refused of a record, with what stands or falls with it; it is written to a file first. */
  discard(number: number, path: string): void {
    this.within(() => {
      const row = this.refused(number);
      const gone = [...this.groupedWith(row), row];
      for (const one of gone.slice(0, -1)) {
        if (!this.ownAndHere(one)) {
          throw new DeviceError(
            "not-allowed",
            `it stands or falls with a change of ${one.id}, which cannot be given up now`,
          );
        }
      }
      for (const one of gone) {
        this.writeOff(path, this.unsentOf(one));
        this.db.run(`DELETE FROM outbox WHERE collection = ? AND record = ?`, [one.collection, one.id]);
        this.rebuild(one, underOf(one));
      }
    });
  }

  /** Writes changes that are given up to a file, a change a line. */
  protected writeOff(path: string, changes: Entry[]): void {
    this.db.append(
      path,
      changes.map((q) => {
        const reasons = q.reasons === null ? "" : `,"reasons":${q.reasons}`;
        return (
          `{"number":${q.number},"collection":${write(q.collection)},"record":${write(q.record)},"kind":${write(q.kind)},` +
          `"base":${q.base},"fields":${q.fields},"stamp":${write(q.stamp)},"edited_at":${write(q.edited_at)},` +
          `"author":${write(q.author)},"discarded_at":${write(this.time())}${reasons}}`
        );
      }),
    );
  }

  /** Writes a change that starts from a revision of central's, and the view after it. */
  protected putChange(row: Stored, base: number, kind: Kind, delta: Delta, after: Fields): Stored {
    const now = this.now();
    const stamp = stamps.next(this.fact("stamp"), now);
    this.setFact("stamp", stamp);
    const author = this.fact("worker");
    const { boot, since } = this.tick();
    const editedAt = this.time();
    this.db.run(
      `INSERT INTO outbox (collection, record, kind, base, fields, stamp, edited_at, author, boot, line, generation, seen)
       VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
      [
        row.collection,
        row.id,
        kind,
        base,
        writeDelta(delta),
        stamp,
        editedAt,
        author,
        boot,
        stamps.millisOf(stamp) - Math.floor(since),
        row.lost,
        this.seenOf(row),
      ],
    );
    const saved = { ...row };
    if (row.pending === 0 && row.revision > 0) {
      saved.under_fields = row.fields;
      saved.under_removed = row.removed;
      saved.under_by ||= byOf(row.author, row.device, row.edited_at); // otherwise it is from before what is being mended
    }
    saved.pending++;
    saved.removed = kind === "remove" ? 1 : 0;
    saved.fields = writeFields(after);
    saved.author = author;
    saved.device = this.fact("name");
    saved.edited_at = editedAt;
    this.note(row.collection, row.id, kind === "remove");
    this.put(saved);
    return saved;
  }

  /** The unsent changes of a record that its author sees and that an earlier incarnation of the store numbered. */
  protected seenOf(row: Stored): string {
    const rows = this.db.all<{ origin: string; number: number }>(
      `SELECT origin, number FROM outbox WHERE collection = ? AND record = ? AND origin <> '' ORDER BY number DESC LIMIT 1000`,
      [row.collection, row.id],
    );
    return JSON.stringify(rows.map(({ origin, number }) => ({ incarnation: origin, number })));
  }

  /** Makes a group of the changes saved in this transaction since a number; of one alone there is none. */
  protected bind(since: number): void {
    const count = this.one<{ n: number }>(`SELECT count(*) AS n FROM outbox WHERE number > ?`, [since])?.n ?? 0;
    if (count > maxGroup) {
      throw new DeviceError("group-size", `a group has at most ${maxGroup} changes, and this one has ${count}`);
    }
    if (count > 1) {
      this.db.run(`UPDATE outbox SET grp = ?, grp_of = ? WHERE number > ?`, [this.newID(), count, since]);
    }
  }

  /** Makes a copy of the store where mending a record leaves out values, since the fields that they were for are gone. */
  protected keepWhatIsLeftOut(collection: string, id: string): void {
    const refused = this.db.all<Entry>(
      `SELECT * FROM outbox WHERE EXISTS (SELECT 1 FROM outbox WHERE collection = ?1 AND record = ?2 AND state = 'refused')
         AND (collection = ?1 AND record = ?2
           OR grp IN (SELECT grp FROM outbox WHERE collection = ?1 AND record = ?2 AND grp <> ''))`,
      [collection, id],
    );
    const leaves = refused.some((q) => {
      const c = this.collection(q.collection);
      const delta = c.presentNames(readDelta(parse(q.fields)));
      return Object.entries(delta).some(([name, edit]) => !c.field(name) && edit.to !== undefined);
    });
    if (leaves) {
      this.backupBefore("values-left-out");
    }
  }

  /** Whether an edit of a record mends what is unsent of it: refused, by the same author, and nothing on its way. */
  protected mendable(row: Stored): boolean {
    const found = this.one<{ is: number }>(
      `SELECT coalesce(sum(state = 'refused' OR mended AND origin = '') > 0 AND sum(author <> ?) = 0 AND sum(state = 'sent') = 0, 0) AS "is"
         FROM outbox WHERE collection = ? AND record = ?`,
      [this.fact("worker"), row.collection, row.id],
    );
    return found?.is === 1;
  }

  /** Makes one change of what central has refused of a record: from what central has to what the worker wants now. */
  protected mend(row: Stored, after: Fields): [Stored, Mended, Decision[]] {
    const under = underOf(row);
    const c = this.collection(row.collection);
    const changes = this.unsentOf(row);
    const { decisions } = this.overlay(c, under, changes);
    this.db.run(`DELETE FROM outbox WHERE collection = ? AND record = ?`, [row.collection, row.id]);
    const mended: Mended = {
      kind: row.revision === 0 || under.removed ? "add" : "edit",
      base: row.revision,
      delta: c.presentNames(diff(under.fields, after)),
    };
    if (row.withdrawn > row.revision) {
      // What central has is not here, and may be more than what this store has sent of it.
      mended.base = Math.min(mended.base, ...changes.map((q) => q.base));
    }
    if (row.lost !== "") {
      Object.assign(mended, sentBefore(c, changes, mended, after));
    }
    for (const name of Object.keys(mended.delta)) {
      if (!c.field(name)) {
        delete mended.delta[name]; // it would be refused again
      }
    }
    const ready: Stored = { ...row, pending: 0 };
    if (row.revision > 0) {
      ready.fields = writeFields(under.fields);
      ready.removed = under.removed ? 1 : 0;
      ready.under_fields = null;
    }
    return [ready, mended, decisions];
  }

  protected putMended(row: Stored, m: Mended): Stored {
    return this.putChange(row, m.base, m.kind, m.delta, apply(underOf(row).fields, m.delta));
  }

  /** Puts what is unsent of a record into the outbox anew, as one change; a removal follows what was edited before it. */
  private again(row: Stored): [Stored, Decision[]] {
    const [ready, mended, decisions] = this.mend(row, fieldsOf(row.fields));
    if (!row.removed) {
      return [this.putMended(ready, mended), decisions];
    }
    const edits = mended.kind === "edit" && Object.keys(mended.delta).length > 0;
    const now = edits ? this.putMended(ready, mended) : ready;
    return [this.putMended(now, { ...mended, kind: "remove", delta: blank() }), decisions];
  }

  /** Mends a record, and sends again what was refused as one group with it: the new changes are a group as well. */
  protected mendTogether(row: Stored, mend: (row: Stored) => [Stored, Decision[]]): [Stored, Decision[]] {
    const others = this.groupedWith(row);
    const last = this.lastNumber();
    const done = mend(row);
    for (const other of others) {
      if (!this.ownAndHere(other)) {
        throw new DeviceError(
          "not-allowed",
          `it was refused together with a change of ${other.id}, of which other changes are on their way; exchange first`,
        );
      }
      this.again(this.load(other.collection, other.id) ?? other);
    }
    if (others.length > 0) {
      this.bind(last);
      this.db.run(`UPDATE outbox SET mended = 1 WHERE number > ?`, [last]);
    }
    return done;
  }

  /** The other records whose changes stand or fall with those of a record. */
  private groupedWith(row: Stored): Stored[] {
    const keys = this.db.all<{ collection: string; record: string }>(
      `SELECT collection, record FROM outbox
         WHERE grp IN (SELECT grp FROM outbox WHERE collection = ?1 AND record = ?2 AND grp <> '')
           AND NOT (collection = ?1 AND record = ?2) GROUP BY collection, record ORDER BY min(number)`,
      [row.collection, row.id],
    );
    return keys.flatMap(({ collection, record }) => this.load(collection, record) ?? []);
  }

  private ownAndHere(row: Stored): boolean {
    const found = this.one<{ is: number }>(
      `SELECT coalesce(sum(author <> ?) = 0 AND sum(state = 'sent') = 0, 0) AS "is"
         FROM outbox WHERE collection = ? AND record = ?`,
      [this.fact("worker"), row.collection, row.id],
    );
    return found?.is === 1;
  }

  /** Finds the record of a refused change of whoever is signed in. */
  private refused(number: number): Stored {
    const q = this.one<Entry>(`SELECT * FROM outbox WHERE number = ? AND author = ? AND kept IS NULL`, [
      number,
      this.fact("worker"),
    ]);
    const row = q && this.load(q.collection, q.record);
    if (!q || !row) {
      throw new DeviceError("no-change", `no such change of yours on this device: ${number}`);
    }
    if (q.state !== "refused" && q.state !== "waiting") {
      throw new DeviceError("not-allowed", `change ${number} has not been refused; it goes with the next exchange`);
    }
    if (!this.ownAndHere(row)) {
      throw new DeviceError("not-allowed", "other changes of this record are on their way to central; exchange first");
    }
    return row;
  }
}

/** A mended change of a record that a restored central has lost: all that the changes said is said again. */
function sentBefore(c: Collection, changes: Entry[], m: Mended, after: Fields): Mended {
  const said: Mended = { kind: "edit", base: m.base, delta: blank() };
  for (const q of changes) {
    if (q.kind === "add") {
      said.kind = "add";
    }
    said.base = Math.min(said.base, q.base);
    for (const [name, edit] of Object.entries(c.presentNames(readDelta(parse(q.fields))))) {
      said.delta[name] = said.delta[name] ?? edit;
    }
  }
  for (const [name, edit] of Object.entries(m.delta)) {
    said.delta[name] = said.delta[name] ?? edit;
  }
  for (const [name, edit] of Object.entries(said.delta)) {
    said.delta[name] = edited(edit.from, after[name]);
  }
  return said;
}
