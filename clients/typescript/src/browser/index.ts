// A device in a browser. All pages of an origin share one store: one of them has the worker that works on it, the others ask
// that page; when it is closed, another takes over.
import type { Value } from "../core/json.ts";
import type { Values } from "../device/desk.ts";
import { uuid7 } from "../core/id.ts";
import type { Changed } from "../device/file.ts";
import type {
  Ask,
  Counts,
  Coverage,
  DeviceRecord,
  Draft,
  Exchanged,
  Found,
  Holding,
  LostRecord,
  Past,
  Places,
  Progress,
  Queued,
  Steered,
  RepeatOptions,
  Summary,
  Verified,
  Worker as Person,
} from "../index.ts";
import { DeviceError } from "../device/errors.ts";
import type { TypedInBrowser } from "../typed.ts";
import {
  errorOf,
  packed,
  unpacked,
  type Answered,
  type Asked,
  type Failure,
  type Message,
  type Told,
} from "./messages.ts";

export { uuid7 } from "../core/id.ts";
export { millisOf } from "../core/stamp.ts";
export { parsePeriod, periodOf, Period, type PeriodKind } from "../core/period.ts";
export { Exact } from "../core/json.ts";
export { AskError, DeviceError, InvalidError, Problem, type ErrorName } from "../device/errors.ts";
export type * from "../index.ts";
export type { Typed, TypedFound, TypedInBrowser, TypedRecord } from "../typed.ts";

/** The same store, with the types that `homing generate typescript --library` writes of one's collections. */
export function typed<Collections, Changes, IDs>(store: BrowserStore): TypedInBrowser<Collections, Changes, IDs> {
  return store as unknown as TypedInBrowser<Collections, Changes, IDs>;
}

/** How a store is opened. */
export interface BrowserOptions {
  /** Where the worker's script is; beside this one when left out. */
  worker?: string | URL;
}

/** One change of a group. */
export interface Step {
  kind: "add" | "edit" | "remove";
  collection: string;
  /** Of the record; of an add the id that it is to have, made here when left out. */
  id?: string;
  fields?: Values;
}

/** How long a worker may take until it runs, in milliseconds: the first one; each further one longer. */
const firstWord = 3_000;
const mostWorkers = 5;

interface Waiting {
  asked: Asked;
  resolve: (done: unknown) => void;
  reject: (error: Error) => void;
  watch?: ((progress: Progress) => void) | undefined;
  /** It was asked for again, since the page that had the store went away in the middle. */
  repeated?: boolean;
}

/** Opens the store of a name in this origin, and makes it if there is none. A save is on the disk when it returns. */
export async function open(name: string, options: BrowserOptions = {}): Promise<BrowserStore> {
  const store = new BrowserStore(name, options);
  await store.ready;
  return store;
}

/**
 * Makes a store of a backup, under a name that no store has in this origin. It reuses no number of the lost store; what the
 * backup holds unsent goes to central under the old identity, and counts once, even if the lost store has sent it.
 */
export async function restore(backup: Blob, name: string, options: BrowserOptions = {}): Promise<void> {
  const bytes = new Uint8Array(await backup.arrayBuffer());
  const text = btoa(Array.from(bytes, (byte) => String.fromCharCode(byte)).join(""));
  const worker = new Worker(options.worker ?? new URL("worker.js", import.meta.url), { type: "module" });
  try {
    await new Promise<void>((resolve, reject) => {
      worker.onmessage = ({ data }: MessageEvent<Answered | Told>) => {
        if ("answer" in data) {
          data.failed ? reject(errorOf(data.failed)) : resolve();
        }
      };
      worker.onerror = () => reject(new Error("the worker of the store cannot be started"));
      worker.postMessage({ ask: "restore", from: "", method: "restore", given: packed([name, text]) } satisfies Asked);
    });
  } finally {
    worker.terminate();
  }
}

/** What may be asked for again when the page that had the store went away in the middle: it comes to the same. */
const repeatable = new Set([
  "add",
  "edit",
  "review",
  "get",
  "find",
  "children",
  "collections",
  "definition",
  "fingerprint",
  "lostRecords",
  "places",
  "coverage",
  "unasked",
  "counts",
  "below",
  "history",
  "keepDraft",
  "dropDraft",
  "drafts",
  "loss",
  "people",
  "lookUp",
  "exchanges",
  "givenUp",
  "repeat",
  "status",
]);

export class BrowserStore {
  /** Resolves once some page has the store open. */
  readonly ready: Promise<void>;
  private readonly page = crypto.randomUUID();
  private readonly channel: BroadcastChannel;
  private readonly waiting = new Map<string, Waiting>();
  private readonly listeners = new Set<(changed: Changed) => void>();
  private readonly exchanged = new Set<NonNullable<RepeatOptions["tell"]>>();
  private readonly closing = new AbortController();
  private worker: Worker | undefined;
  private asks = 0;

  constructor(
    private readonly name: string,
    private readonly options: BrowserOptions,
  ) {
    this.channel = new BroadcastChannel(`homing ${name}`);
    this.channel.onmessage = ({ data }: MessageEvent<Message>) => this.hear(data);
    const { promise, resolve, reject } = deferred<void>();
    this.ready = promise;
    const lock = `homing ${name}`;
    const { signal } = this.closing;
    void navigator.locks.request(lock, { ifAvailable: true }, async (free) => {
      if (free) {
        await this.lead().then(resolve, reject);
        await this.closed();
        return;
      }
      // Another page has the store. This one takes over when that is closed.
      this.call<unknown>("status", []).then(() => resolve(), reject);
      navigator.locks
        .request(lock, { signal }, async () => {
          await this.lead();
          resolve();
          this.again();
          await this.closed();
        })
        .catch(reject); // it says nothing once the store is open, or closed again
    });
  }

  /** Opens the store in a worker of this page. */
  private async lead(): Promise<void> {
    const worker = await this.startWorker();
    if (this.closing.signal.aborted) {
      worker.terminate();
      return;
    }
    worker.onmessage = ({ data }: MessageEvent<Answered | Told>) => {
      if ("answer" in data && data.to === this.page) {
        this.hear(data);
      } else {
        this.channel.postMessage(data);
        if ("told" in data) {
          this.hear(data);
        }
      }
    };
    this.worker = worker;
    await this.send<void>("open", [this.name]);
    void navigator.storage?.persist?.();
    this.channel.postMessage({ told: "opened", what: "" } satisfies Told);
  }

  /**
   * Starts the worker, and waits until it says that it runs. A browser that was killed a moment ago now and then never fetches the
   * script of the first worker that is asked for: another one is asked for then.
   */
  private async startWorker(): Promise<Worker> {
    const script = this.options.worker ?? new URL("worker.js", import.meta.url);
    for (let tries = 1; ; tries++) {
      const worker = new Worker(script, { type: "module" });
      const runs = await new Promise<boolean>((resolve, reject) => {
        const timer = setTimeout(() => resolve(false), firstWord * tries);
        worker.onmessage = () => {
          clearTimeout(timer);
          resolve(true);
        };
        worker.onerror = () => {
          clearTimeout(timer);
          reject(new Error(`the worker of the store cannot be started from ${script}`));
        };
      });
      if (runs) {
        return worker;
      }
      worker.terminate();
      if (tries === mostWorkers) {
        throw new Error(`the worker of the store says nothing; it was started ${tries} times from ${script}`);
      }
    }
  }

  /** Resolves when this page closes the store. */
  private closed(): Promise<void> {
    const { signal } = this.closing;
    return new Promise((resolve) => signal.addEventListener("abort", () => resolve()));
  }

  private hear(message: Message): void {
    if ("ask" in message) {
      this.worker?.postMessage(message);
    } else if ("breakOff" in message) {
      this.worker?.postMessage(message);
    } else if ("answer" in message) {
      const one = this.waiting.get(message.answer);
      this.waiting.delete(message.answer);
      if (message.failed?.code === "taken" && one?.repeated) {
        const [collection, , id] = unpacked(one.asked.given) as [string, Values, string];
        this.get(collection, id).then(one.resolve, one.reject); // the add was saved before that page went away
      } else if (message.failed) {
        one?.reject(errorOf(message.failed));
      } else {
        one?.resolve(unpacked(message.done ?? "null"));
      }
    } else if (message.told === "changed") {
      for (const changed of JSON.parse(message.what) as Changed[]) {
        this.listeners.forEach((listener) => listener(changed));
      }
    } else if (message.told === "exchanged") {
      const { summary, failed } = JSON.parse(message.what) as { summary?: Summary; failed?: Failure };
      this.exchanged.forEach((tell) => tell(summary, failed && errorOf(failed)));
    } else if (message.told === "progress") {
      const { ask, ...progress } = JSON.parse(message.what) as Progress & { ask: string };
      this.waiting.get(ask)?.watch?.(progress);
    } else {
      this.again();
    }
  }

  /** Asks again for what the page that had the store has not answered, where that comes to the same. */
  private again(): void {
    for (const [ask, one] of this.waiting) {
      if (repeatable.has(one.asked.method)) {
        one.repeated = true;
        this.pass(one.asked);
      } else if (one.asked.method !== "open") {
        this.waiting.delete(ask);
        one.reject(
          new DeviceError(
            "interrupted",
            "the page that had the store was closed in the middle; look whether it was done",
          ),
        );
      }
    }
  }

  private pass(asked: Asked): void {
    if (this.worker) {
      this.worker.postMessage(asked);
    } else {
      this.channel.postMessage(asked);
    }
  }

  private send<T>(
    method: string,
    given: unknown[],
    watch?: (progress: Progress) => void,
    signal?: AbortSignal,
  ): Promise<T> {
    const ask = `${this.page} ${++this.asks}`;
    const { promise, resolve, reject } = deferred<unknown>();
    const asked: Asked = { ask, from: this.page, method, given: packed(given) };
    this.waiting.set(ask, { asked, resolve, reject, watch });
    signal?.addEventListener("abort", () => {
      const message = { breakOff: ask };
      this.worker ? this.worker.postMessage(message) : this.channel.postMessage(message);
    });
    this.pass(asked);
    return promise as Promise<T>;
  }

  private call<T>(method: string, given: unknown[]): Promise<T> {
    return this.send<T>(method, given);
  }

  /** Makes the store a device of central, with a one-time code. While central is open, the code may be empty. */
  enrol(central: string, code: string, name: string): Promise<void> {
    return this.call("enrol", [central, code, name]);
  }

  /** Whether the store is enrolled, where central is, and who is signed in. */
  status(): Promise<{ enrolled: boolean; central: string; worker: string; settings: Steered }> {
    return this.call("status", []);
  }

  /** Pushes until the outbox is answered, then pulls to the head. */
  exchange(options: { watch?: (progress: Progress) => void; signal?: AbortSignal } = {}): Promise<Summary> {
    return this.send("exchange", [], options.watch, options.signal);
  }

  /**
   * Exchanges again and again while this page is open and signal does not end it: on a schedule, when signal is back, and with
   * follow when central says that something is new. However many pages ask for it, one of them does it.
   */
  async repeat({ every, follow = false, tell, signal }: RepeatOptions): Promise<void> {
    if (tell) {
      this.exchanged.add(tell);
    }
    try {
      await this.send<void>("repeat", [every, follow], undefined, signal);
    } finally {
      if (tell) {
        this.exchanged.delete(tell);
      }
    }
  }

  /** Lets the next exchange of [repeat] come at once, as when somebody takes the device up again. */
  soon(): Promise<void> {
    return this.call("soon", []);
  }

  /** Compares what is loaded with central, after a pull. With mend, what differs is fetched anew, after a copy was made. */
  verify(options: { mend?: boolean } = {}): Promise<Verified[]> {
    return this.call("verify", [options.mend === true]);
  }

  /** The latest exchanges of this store, the last one first. */
  exchanges(): Promise<Exchanged[]> {
    return this.call("exchanges", []);
  }

  /** Lists who may use this device, and what they have not sent. */
  people(): Promise<Person[]> {
    return this.call("people", []);
  }

  /** Gives whoever is signed in a PIN or password, in place of the old one. */
  setSecret(old: string, secret: string): Promise<void> {
    return this.call("setSecret", [old, secret]);
  }

  /** Lets a worker use the device whose PIN or password this is. What others have not sent is sealed for them alone. */
  signIn(name: string, secret: string): Promise<void> {
    return this.call("signIn", [name, secret]);
  }

  /** Lets nobody use the device until somebody signs in. It says how much of theirs is unsent; exchanges go on sending it. */
  signOut(): Promise<number> {
    return this.call("signOut", []);
  }

  /** Lets somebody else use this device, too, with an enrolment code of theirs and a PIN or password. */
  join(code: string, secret: string): Promise<string> {
    return this.call("join", [code, secret]);
  }

  /** Looks up records at central of a collection that is kept on demand or never. */
  lookUp(collection: string, ask: Ask = {}): Promise<Found> {
    return this.call("lookUp", [collection, ask]);
  }

  /** Bounds what is kept of what was looked up, in bytes; 0 bounds nothing. */
  setBudget(bytes: number): Promise<void> {
    return this.call("setBudget", [bytes]);
  }

  /** Adds a record. It is on the disk when this resolves. */
  add(collection: string, fields: Values, id: string = uuid7(Date.now())): Promise<DeviceRecord> {
    return this.call("add", [collection, fields, id]);
  }

  /** Edits some fields. With saw, what others have done since is kept or not by the rules of the collection. */
  edit(collection: string, id: string, fields: Values, saw?: DeviceRecord): Promise<DeviceRecord> {
    return saw ? this.call("editSeen", [collection, id, fields, saw]) : this.call("edit", [collection, id, fields]);
  }

  /** Marks a record complete in the name of whoever is signed in: what its definition requires is checked now. */
  complete(collection: string, id: string, saw?: DeviceRecord): Promise<DeviceRecord> {
    return this.call("complete", [collection, id, saw ?? null]);
  }

  /** Takes the mark away that a record is complete, by whoever may. */
  reopen(collection: string, id: string, saw?: DeviceRecord): Promise<DeviceRecord> {
    return this.call("reopen", [collection, id, saw ?? null]);
  }

  /** Which places have reported for which periods, as far as this device holds them and whoever is signed in covers them. */
  coverage(collection: string, ask: { from?: string; until?: string; today: string }): Promise<Coverage | null> {
    return this.call("coverage", [collection, ask]);
  }

  /** Removes a record, and the children that go with it. */
  remove(collection: string, id: string, saw?: DeviceRecord): Promise<void> {
    return this.call("remove", [collection, id, saw ?? null]);
  }

  /** Saves several changes that stand or fall together. */
  group(steps: Step[]): Promise<(DeviceRecord | null)[]> {
    return this.call("group", [steps]);
  }

  /** Gives a disputed field the value that it is to have. */
  settle(collection: string, id: string, field: string, value: Value): Promise<DeviceRecord> {
    return this.call("settle", [collection, id, field, value]);
  }

  get(collection: string, id: string): Promise<DeviceRecord> {
    return this.call("get", [collection, id]);
  }

  /** Lists the records of a collection that fit a question, a page at a time. */
  find(collection: string, ask: Ask = {}): Promise<Found> {
    return this.call("find", [collection, ask]);
  }

  /** Lists the records of a child collection that belong to a record. */
  children(of: DeviceRecord, child: string, ask: Ask = {}): Promise<Found> {
    return this.call("children", [of, child, ask]);
  }

  /** Where the records are that fit a question, by a field that holds places: many at once, for a map. */
  places(collection: string, field: string, ask: Ask = {}): Promise<Places> {
    return this.call("places", [collection, field, ask]);
  }

  /** The fields that are not asked for of a record, by what stands in others: as of one that is being typed. */
  unasked(collection: string, values: Values): Promise<string[]> {
    return this.call("unasked", [collection, values]);
  }

  /** How many records have which mark, by collection. */
  counts(): Promise<{ [collection: string]: Counts }> {
    return this.call("counts", []);
  }

  /** How many records below some of a collection have which mark; those below which none has any are left out. */
  below(collection: string, ids: string[]): Promise<{ [id: string]: Omit<Counts, "records"> }> {
    return this.call("below", [collection, ids]);
  }

  /** What has become of a record, as far as it is known here: the latest first. */
  history(collection: string, id: string): Promise<Past[]> {
    return this.call("history", [collection, id]);
  }

  /** Keeps what stands in a form of whoever is signed in. It is on the disk when this resolves, and is never sent. */
  keepDraft(collection: string, record: string, text: string): Promise<void> {
    return this.call("keepDraft", [collection, record, text]);
  }

  dropDraft(collection: string, record: string): Promise<void> {
    return this.call("dropDraft", [collection, record]);
  }

  /** The drafts of whoever is signed in, the latest first. */
  drafts(): Promise<Draft[]> {
    return this.call("drafts", []);
  }

  /** The definition of a collection as central has sent it, as JSON. */
  definition(collection: string): Promise<string> {
    return this.call("definition", [collection]);
  }

  collections(): Promise<Holding[]> {
    return this.call("collections", []);
  }

  /** What central has not accepted yet, in the order in which it will be sent. */
  review(): Promise<Queued[]> {
    return this.call("review", []);
  }

  /** Offers central once more what it has refused of a record, as it is. */
  sendAgain(number: number): Promise<DeviceRecord> {
    return this.call("sendAgain", [number]);
  }

  /**
   * Takes back a change that has not left the device, or several at once, with those that stand or fall with it. It is kept
   * first, among the origin's private files.
   */
  takeBack(number: number | number[]): Promise<void> {
    return this.call("takeBack", [number, `${this.name}.given-up`]);
  }

  /** Gives up what central has refused of a record. It is kept first, among the origin's private files. */
  discard(number: number): Promise<void> {
    return this.call("discard", [number, `${this.name}.given-up`]);
  }

  /** What was given up by [discard], a change a line, as JSON. */
  givenUp(): Promise<string[]> {
    return this.call("givenUp", [`${this.name}.given-up`]);
  }

  /** What would be lost with the store of what somebody has made on it, in words; nothing where nothing would. */
  loss(): Promise<string | null> {
    return this.call("loss", []);
  }

  /**
   * Erases the store from this browser. While something would be lost with it, it refuses unless discard is set; then it gives a
   * backup, to be kept elsewhere. What others have not sent is never given up. Pages have to be opened anew then.
   */
  async erase(options: { discard?: boolean } = {}): Promise<Blob | undefined> {
    const text = await this.call<string>("erase", [options.discard === true]);
    return text === "" ? undefined : blobOf(text);
  }

  lostRecords(): Promise<LostRecord[]> {
    return this.call("lostRecords", []);
  }

  fingerprint(collection: string): Promise<{ count: number; fingerprint: string }> {
    return this.call("fingerprint", [collection]);
  }

  /**
   * How much room the browser gives this origin and how much of it is taken, in bytes, as far as it says; and whether it has
   * promised to keep the store until somebody clears it.
   */
  async room(): Promise<{ used: number; quota: number; persisted: boolean }> {
    const { usage = 0, quota = 0 } = await navigator.storage.estimate();
    return { used: usage, quota, persisted: await navigator.storage.persisted() };
  }

  /** A copy of the whole store, to be kept elsewhere. */
  async backup(): Promise<Blob> {
    return blobOf(await this.call<string>("exported", []));
  }

  /** Tells a listener of each change of a record from now on, whichever page makes it. */
  listen(listener: (changed: Changed) => void): () => void {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  }

  /** Calls show with what a question finds: at once, and again whenever a record of the collection has changed. */
  live(collection: string, ask: Ask, show: (found: Found) => void): () => void {
    let looking = false;
    let due = false;
    let over = false;
    const look = async () => {
      due = true;
      if (looking) {
        return; // what has changed meanwhile is looked at once, however much that is
      }
      looking = true;
      try {
        while (due && !over) {
          due = false;
          const found = await this.find(collection, ask);
          if (!over) {
            show(found);
          }
        }
      } finally {
        looking = false;
      }
    };
    const stop = this.listen((changed) => {
      if (changed.collection === collection || changed.missed) {
        void look();
      }
    });
    void look();
    return () => {
      over = true;
      stop();
    };
  }

  /** Lets go of the store in this page; another page may go on with it. */
  close(): void {
    this.worker?.terminate();
    this.closing.abort();
    this.channel.close();
  }
}

function blobOf(based: string): Blob {
  return new Blob([Uint8Array.from(atob(based), (c) => c.charCodeAt(0))], { type: "application/vnd.sqlite3" });
}

function deferred<T>(): { promise: Promise<T>; resolve: (value: T) => void; reject: (error: Error) => void } {
  let resolve: (value: T) => void = () => {};
  let reject: (error: Error) => void = () => {};
  const promise = new Promise<T>((yes, no) => {
    resolve = yes;
    reject = no;
  });
  return { promise, resolve, reject };
}
