// What goes to central: batch after batch, until everything is answered.
import { write } from "../core/json.ts";
import * as stamps from "../core/stamp.ts";
import { DeviceError, Problem } from "./errors.ts";
import { changeText } from "./aside.ts";
import { Meeter, type Run } from "./meet.ts";
import { list, members, text, type Members } from "./receiver.ts";
import { answeredBefore, type Entry } from "./shelf.ts";

/** Changes of a batch at most, and what is taken for granted until central has said how large one may be. */
export const firstBatch = 500;
const perChange = 300; // bytes that a change weighs besides its fields, about

export abstract class Pusher extends Meeter {
  /** Makes the outbox ready to be sent. */
  protected prepare(run: Run): void {
    run.prepared = true;
    this.fold();
    // What waits for another change may go in now.
    this.db.run(`UPDATE outbox SET state = 'sent', reasons = NULL, batch = NULL WHERE state = 'waiting'`);
  }

  /** How many changes a batch carries at most: as many as went through last, or as many as there may be. */
  protected batchSize(run: Run): { most: number; largest: number } {
    const largest = Math.max(Math.min(firstBatch, run.maxChanges), 1);
    return { most: Math.min(Number(this.fact("batch")) || largest, largest), largest };
  }

  /** Sends batch after batch until everything is answered. */
  protected async pushAll(run: Run): Promise<void> {
    if (!run.prepared) {
      this.prepare(run);
    }
    const { most: before, largest } = this.batchSize(run);
    let most = before;
    for (;;) {
      const { id, changes } = this.nextBatch(most, run.maxBytes / 2);
      if (changes.length === 0) {
        this.hang();
        if (!(await this.partFromCopy(run.summary))) {
          return;
        }
        await this.renew(run);
        continue;
      }
      let answers: Members;
      try {
        answers = members(
          await this.call(run, {
            method: "POST",
            path: "/v1/batches",
            body: this.written(run, id, changes),
          }),
        );
      } catch (error) {
        const smaller = error instanceof Problem && [408, 413, 504].includes(error.status);
        if (!smaller || changes.length < 2 || most < 2) {
          throw error;
        }
        // Each change keeps its number, so none can count twice, whatever became of the batch.
        most = Math.max(Math.floor(Math.min(most, changes.length) / 2), 1);
        this.resize(id, most);
        continue;
      }
      await this.hearAnswers(run, id, changes, answers);
      run.settled = undefined; // what was pulled before is behind again
      if (most < largest) {
        most = Math.min(most * 2, largest);
        this.setFact("batch", String(most));
      }
      run.watch({ phase: "push", done: run.summary.sent });
    }
  }

  /** Stores the answers to a batch, if they are those. */
  protected async hearAnswers(run: Run, id: string, changes: Entry[], answers: Members): Promise<void> {
    const all = list(answers.answers);
    if (text(answers.batch) !== id || all.length !== changes.length) {
      throw new DeviceError(
        "unreachable",
        `central answered ${all.length} of ${changes.length} changes; they are kept`,
      );
    }
    const uncertain = (q: Entry) => this.unsure(run, q) + Math.ceil(run.offset.error);
    await this.takeAnswers(changes, all, answers, run.summary, uncertain);
    await this.renew(run); // something may go under another source now
    run.summary.sent += changes.length;
  }

  /** The batch to send next: one that got no answer, or a new one, which is on the disk before it leaves. */
  protected nextBatch(most: number, bytes: number): { id: string; changes: Entry[] } {
    return this.within(() => {
      const open = this.db.all<Entry>(
        `SELECT * FROM outbox o WHERE state IN ('new', 'sent') AND (kept IS NULL OR sealed IS NOT NULL) AND NOT EXISTS
           (SELECT 1 FROM outbox w WHERE w.collection = o.collection AND w.record = o.record AND w.state = 'waiting'
             AND w.number < o.number AND o.kind <> 'add')
         ORDER BY batch IS NULL, coalesce(place, number) LIMIT ?`,
        [most + 400],
      );
      const changes = cutBatch(open, most, bytes);
      const known = changes[0]?.batch;
      if (changes.length === 0 || known) {
        return { id: known ?? "", changes };
      }
      const id = this.newID();
      this.db.run(`UPDATE outbox SET batch = ?, state = 'sent' WHERE number IN (SELECT value FROM json_each(?))`, [
        id,
        JSON.stringify(changes.map((q) => q.number)),
      ]);
      return { id, changes };
    });
  }

  private resize(id: string, most: number): void {
    this.within(() => {
      this.db.run(`UPDATE outbox SET batch = NULL WHERE batch = ? AND state = 'sent'`, [id]);
      this.setFact("batch", String(most));
    });
  }

  /** What a batch says. */
  protected written(run: Run, id: string, changes: Entry[]): string {
    const all = changes.map((q) => {
      const dated: string[] = [];
      const turned = this.turned(q);
      if (turned !== 0) dated.push(`"turned_ms":${turned}`);
      const unsure = this.unsure(run, q);
      if (unsure > 0) dated.push(`"unsure_ms":${unsure}`);
      return q.kept === null
        ? changeText(q, dated)
        : `{${[`"number":${q.number},"sealed":${write(q.sealed)}`, ...dated].join(",")}}`;
    });
    const source = changes[0]?.origin || this.fact("incarnation");
    const generation = changes[0]?.generation || this.fact("generation");
    const identity = `"batch":${write(id)},"exchange":${write(run.summary.exchange)},"incarnation":${write(source)}`;
    return `{${identity},"generation":${write(generation)},"clock":${this.clockOf(run)},"changes":[${all.join(",")}]}`;
  }

  /** By how much a change may be dated wrong besides, since the machine was started anew after it was stamped. */
  private unsure(run: Run, q: Entry): number {
    if (q.boot === answeredBefore) {
      return q.unsure;
    }
    if (q.boot === this.tick().boot) {
      return 0;
    }
    const [by, error] = this.fact("then").split(" ").map(Number);
    if (by === undefined || error === undefined) {
      return Math.ceil(Math.abs(this.now() - stamps.millisOf(q.stamp)));
    }
    return Math.ceil(Math.max(Math.abs(run.offset.by - by) + error - run.offset.error, 0));
  }
}

/** Takes from the front of the outbox what goes as one batch: so many changes and bytes, and no part of a group. */
function cutBatch(open: Entry[], most: number, bytes: number): Entry[] {
  let size = 0;
  let whole = 0;
  for (const [n, q] of open.entries()) {
    const first = open[0];
    if (q.batch !== first?.batch || q.origin !== first.origin || q.generation !== first.generation) {
      return open.slice(0, n);
    }
    size += q.fields.length + (q.sealed?.length ?? 0) + perChange;
    const full = n + 1 > most || size > bytes;
    const ends = q.grp === "" || open[n + 1]?.grp !== q.grp;
    if (full && whole > 0) {
      return open.slice(0, whole);
    }
    if (ends) {
      whole = n + 1;
      if (full) {
        return open.slice(0, whole);
      }
    }
  }
  return open;
}
