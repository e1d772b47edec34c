// What a device has, compared with what central says that it should have; and what central asks a device to do.
import { bucket, FingerprintSet } from "../core/fingerprint.ts";
import { write, type Value } from "../core/json.ts";
import { writeFields } from "../core/state.ts";
import { DeviceError } from "./errors.ts";
import type { Run } from "./meet.ts";
import { list, members, text, type Members } from "./receiver.ts";
import { underOf, type Stored } from "./shelf.ts";
import { Traveller } from "./trip.ts";

/** How a device's copy of a collection compares with what central says it should be. */
export interface Verified {
  collection: string;
  /** That both sides should hold. */
  records: number;
  cursor: number;
  head: number;
  differences: Difference[];
  mended: number;
}

/** A record over which a device and central do not agree. What is unsent is left out of the comparison. */
export interface Difference {
  record: string;
  label: string;
  what: "missing here" | "only here" | "other values";
  /** Revisions; 0 where there is none. */
  here: number;
  central: number;
}

interface Held {
  revision: number;
  fingerprint: string;
  label: string;
}

const mostAsked = 500;

export abstract class Verifier extends Traveller {
  /**
   * Compares what is loaded with central, after a pull. With mend, what differs is fetched anew, after a copy of the store
   * was made beside it.
   */
  async verify(options: { mend?: boolean; signal?: AbortSignal } = {}): Promise<Verified[]> {
    this.mustBeSomebody(); // differences are named
    let all: Verified[] = [];
    await this.run(false, true, options, async (run) => {
      all = await this.verifyAll(run, options.mend === true);
    });
    return all;
  }

  private async verifyAll(run: Run, mend: boolean): Promise<Verified[]> {
    const all: Verified[] = [];
    for (const c of this.definitions().values()) {
      if (!run.defined.has(c.name) || !c.loads) {
        continue;
      }
      const one = await this.verifyOne(run, c.name);
      if (mend && one.differences.length > 0) {
        await this.fetchAnew(run, one);
      }
      all.push(one);
    }
    return all;
  }

  private async verifyOne(run: Run, name: string): Promise<Verified> {
    const { covers, cursor } = this.coveredOf(name);
    const asked = new URLSearchParams();
    if (write(covers) !== '["*"]') {
      // Otherwise it is all that its workers hold.
      for (const key of covers.length === 0 ? [""] : covers) {
        asked.append("covers", key);
      }
    }
    const fetch = async (ask: URLSearchParams) =>
      members(await this.call(run, { method: "GET", path: `/v1/fingerprints/${name}?${ask}` }));
    const there = await fetch(asked);
    const [here, sets] = this.heldHere(name);
    const result: Verified = {
      collection: name,
      records: 0,
      cursor,
      head: Number(there.head ?? 0),
      differences: [],
      mended: 0,
    };
    const buckets = members(there.buckets);
    for (const bucketName of new Set([...Object.keys(buckets), ...sets.keys()])) {
      const said = members(buckets[bucketName]);
      const [count, set] = [Number(said.count ?? 0), sets.get(bucketName) ?? new FingerprintSet()];
      result.records += count;
      if (count === set.count && (count === 0 || text(said.fingerprint) === String(set))) {
        continue;
      }
      const ask = new URLSearchParams(asked);
      ask.set("bucket", bucketName);
      result.differences.push(...differences(bucketName, here, list((await fetch(ask)).records)));
    }
    result.differences.sort((a, b) => (a.record < b.record ? -1 : 1));
    return result;
  }

  /** What central last said of each record: what is unsent does not count. */
  private heldHere(name: string): [Map<string, Held>, Map<string, FingerprintSet>] {
    const c = this.collection(name);
    const here = new Map<string, Held>();
    const sets = new Map<string, FingerprintSet>();
    const rows = this.db.all<Stored>(`SELECT * FROM records WHERE collection = ? AND revision > 0`, [name]);
    for (const row of rows) {
      const under = underOf(row);
      if (under.removed || row.withdrawn > 0) {
        continue;
      }
      const [one, fields] = [new FingerprintSet(), writeFields(under.fields)];
      one.add(row.id, fields);
      here.set(row.id, { revision: under.revision, fingerprint: String(one), label: c.labelOf(under.fields) });
      const set = sets.get(bucket(row.id)) ?? new FingerprintSet();
      sets.set(bucket(row.id), set);
      set.add(row.id, fields);
    }
    return [here, sets];
  }

  /** Brings in line what differs, after a copy. */
  private async fetchAnew(run: Run, result: Verified): Promise<void> {
    this.backupBefore("mending");
    const generation = this.fact("generation");
    this.within(() => {
      for (const one of result.differences) {
        this.db.run(
          `UPDATE records SET lost = ?, under_fields = CASE WHEN pending > 0 THEN under_fields END
             WHERE collection = ? AND id = ?`,
          [generation, result.collection, one.record],
        );
      }
    });
    for (let from = 0; from < result.differences.length; from += mostAsked) {
      const some = result.differences.slice(from, from + mostAsked);
      const body = JSON.stringify({ records: some.map(({ record }) => ({ id: record, revision: 0 })) });
      const path = `/v1/refresh/${result.collection}`;
      const got = list(members(await this.call(run, { method: "POST", path, body })).records);
      this.within(() => this.takeRecords(result.collection, got, { ...run.summary }), true);
      result.mended += got.filter((r) => r.withdrawn !== true).length;
    }
  }

  protected override async runErrands(run: Run): Promise<Value[]> {
    const all: Value[] = [];
    for (const { id, what } of run.errands) {
      const done = await this.runErrand(run, what).catch((error: unknown) => {
        if (run.signal?.aborted) {
          throw error;
        }
        return { done: false, why: (error instanceof Error ? error.message : String(error)).slice(0, 500) };
      });
      all.push({ id, ...done } as Value);
    }
    return all;
  }

  private async runErrand(run: Run, what: string): Promise<Members> {
    switch (what) {
      case "verify": {
        this.mustBeSomebody();
        const all = await this.verifyAll(run, true);
        const told = all.map(({ collection, records, differences, mended }) => ({
          collection,
          records,
          differences: differences.length,
          mended,
        }));
        return { done: true, verified: told };
      }
      case "erase": {
        const why = this.spared();
        if (why !== undefined) {
          throw new DeviceError("unsent", why);
        }
        run.erases = true;
        return { done: true };
      }
      default:
        throw new DeviceError("not-allowed", `this version of the program does not know how to ${what.slice(0, 40)}`);
    }
  }
}

function differences(of: string, here: Map<string, Held>, there: Members[]): Difference[] {
  const all: Difference[] = [];
  const named = new Set<string>();
  for (const r of there) {
    const [record, central] = [text(r.id), Number(r.revision ?? 0)];
    named.add(record);
    const held = here.get(record);
    if (!held) {
      all.push({ record, label: "", what: "missing here", here: 0, central });
    } else if (held.fingerprint !== text(r.fingerprint)) {
      all.push({ record, label: held.label, what: "other values", here: held.revision, central });
    }
  }
  for (const [record, held] of here) {
    if (bucket(record) === of && !named.has(record)) {
      all.push({ record, label: held.label, what: "only here", here: held.revision, central: 0 });
    }
  }
  return all;
}
