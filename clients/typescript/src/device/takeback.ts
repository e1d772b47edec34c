// Taking back what somebody has saved and nobody has got yet.
import { DeviceError } from "./errors.ts";
import { Mender } from "./mend.ts";
import { underOf, type Entry } from "./shelf.ts";

export class Taker extends Mender {
  /**
   * Takes back a change that has not left the device, or several at once, with those that stand or fall with it: it will not
   * be sent, and the record is as if it had not been saved. It is written to a file first.
   *
   * The store saves under another identity from then on. The numbers of one identity have no gap, so that a copy of this store
   * which has sent something else under such a number would be noticed.
   */
  takeBack(number: number | number[], path: string): Promise<void> {
    const numbers = Array.isArray(number) ? number : [number];
    // An exchange that is under way may be about to send it: what it leaves is looked at.
    return this.exclusive(async () =>
      this.within(() => {
        const gone = new Set<number>(); // with others of their group
        for (const one of numbers.toSorted((a, b) => b - a)) {
          if (!gone.has(one)) {
            this.takeBackNow(one, path).forEach((taken) => gone.add(taken));
          }
        }
        this.newIncarnation();
      }),
    );
  }

  private takeBackNow(number: number, path: string): number[] {
    const changes = this.togetherWith(number);
    for (const q of changes) {
      if (q.state !== "new" || q.batch !== null || q.author !== this.fact("worker") || q.kept !== null) {
        throw new DeviceError("not-allowed", "it may have reached central already; exchange, and then edit it again");
      }
      if (this.load(q.collection, q.record)?.lost) {
        throw new DeviceError(
          "not-allowed",
          "central was restored and has not said yet what it has of it; exchange first",
        );
      }
      const later = this.one(
        `SELECT 1 FROM outbox WHERE collection = ? AND record = ? AND number > ? AND number NOT IN (SELECT value FROM json_each(?))`,
        [q.collection, q.record, q.number, JSON.stringify(changes.map((one) => one.number))],
      );
      if (later) {
        throw new DeviceError("not-allowed", "the record was changed again since; take that back first");
      }
    }
    for (const q of changes.filter(({ kind }) => kind === "add")) {
      this.mustBeAlone(q, changes);
    }
    this.writeOff(path, changes);
    for (const q of changes.reverse()) {
      this.db.run(`DELETE FROM outbox WHERE number = ?`, [q.number]);
      const row = this.load(q.collection, q.record);
      if (row) {
        this.rebuild(row, underOf(row));
      }
    }
    return changes.map((q) => q.number);
  }

  /** A change of whoever is signed in, with those of its group, in their order. */
  private togetherWith(number: number): Entry[] {
    const q = this.one<Entry>(`SELECT * FROM outbox WHERE number = ? AND author = ? AND kept IS NULL`, [
      number,
      this.fact("worker"),
    ]);
    if (!q) {
      throw new DeviceError("no-change", `no such change of yours is waiting on this device: ${number}`);
    }
    return q.grp === "" ? [q] : this.db.all<Entry>(`SELECT * FROM outbox WHERE grp = ? ORDER BY number`, [q.grp]);
  }

  /** Refuses to let a record go that others here belong to, but for those that go with it. */
  private mustBeAlone(q: Entry, going: Entry[]): void {
    for (const child of this.childrenOf(q.collection)) {
      const held = this.one<{ n: number }>(
        `SELECT count(*) AS n FROM records WHERE collection = '${child.name}' AND fields->>'$.${child.parent?.field}' = ?
           AND NOT removed AND id NOT IN (SELECT value FROM json_each(?))`,
        [q.record, JSON.stringify(going.map((one) => one.record))],
      );
      if (held?.n) {
        throw new DeviceError(
          "has-children",
          `other records belong to this one: ${held.n} of ${child.title}; take those back first`,
        );
      }
    }
  }
}
