// The worker that has the store: it does what the pages of its origin ask for, one thing after the other, and tells them of
// what changes.
import type { Changed, DeviceRecord, ExchangeOptions, Values } from "../index.ts";
import { Store } from "../index.ts";
import { parse, type Value } from "../core/json.ts";
import { openPrivate, type PrivateDatabase } from "./database.ts";
import { failureOf, packed, type Answered, type Asked, type Message, type Told } from "./messages.ts";

let database: PrivateDatabase;
let store: Store;
let opened: Promise<void> | undefined;
const running = new Map<string, AbortController>();

let changes: Changed[] = [];

/** Tells of all changes of a transaction at once. */
function note(changed: Changed): void {
  changes.push(changed);
  if (changes.length === 1) {
    queueMicrotask(() => {
      say({ told: "changed", what: JSON.stringify(changes) });
      changes = [];
    });
  }
}

function say(message: Answered | Told): void {
  postMessage(message);
}

async function open(name: string): Promise<void> {
  database = await openPrivate(name);
  store = new Store(database, { agent: navigator.userAgent });
  store.listen(note);
}

/** What pages may ask for. */
const methods: { [name: string]: (given: Value[], ask: string) => unknown } = {
  open: ([name]) => (opened ??= open(String(name))),
  // Without what its author saw, the same edit again changes nothing more; with it, it might count twice.
  editSeen: ([collection, id, fields, saw]) =>
    store.edit(String(collection), String(id), fields as Values, saw as unknown as DeviceRecord),
  settle: ([collection, id, field, value]) =>
    store.settle(String(collection), String(id), String(field), value ?? null), // null clears the field
  enrol: ([central, code, name]) => store.enrol(String(central), String(code), String(name)),
  exchange: (_, ask) => over(ask, (options) => store.exchange(options)),
  push: (_, ask) => over(ask, (options) => store.push(options)),
  pull: (_, ask) => over(ask, (options) => store.pull(options)),
  status: () => ({
    enrolled: store.fact("token") !== "",
    central: store.fact("central"),
    worker: store.fact("worker"),
  }),
  group: ([steps]) =>
    store.group(() =>
      (steps as unknown as Step[]).map(({ kind, collection, id, fields }) => {
        switch (kind) {
          case "add":
            return store.add(collection, fields ?? {}, id);
          case "edit":
            return store.edit(collection, id ?? "", fields ?? {});
          case "remove":
            return store.remove(collection, id ?? "");
        }
      }),
    ),
  exported: async () => btoa(Array.from(await database.exported(), (byte) => String.fromCharCode(byte)).join("")),
};

/** A change of a group. */
interface Step {
  kind: "add" | "edit" | "remove";
  collection: string;
  id?: string;
  fields?: { [field: string]: Value };
}

/** Methods that are called as they are. */
const direct = new Set<string>([
  "add",
  "edit",
  "remove",
  "review",
  "sendAgain",
  "discard",
  "get",
  "find",
  "children",
  "collections",
  "definition",
  "fingerprint",
  "lostRecords",
  "offerLost",
  "dropLost",
]);

function over<T>(ask: string, work: (options: ExchangeOptions) => Promise<T>): Promise<T> {
  const control = new AbortController();
  running.set(ask, control);
  const watch = (progress: object) => say({ told: "progress", what: JSON.stringify({ ask, ...progress }) });
  return work({ watch, signal: control.signal }).finally(() => running.delete(ask));
}

async function answer({ ask, from, method, given }: Asked): Promise<void> {
  try {
    const args = parse(given) as Value[];
    if (method !== "open") {
      await opened; // another page may ask while this one is still opening it
    }
    const own = methods[method];
    const called = direct.has(method) ? (store[method as keyof Store] as (...args: unknown[]) => unknown) : undefined;
    if (!own && !called) {
      throw new TypeError(`a store has no method ${method}`);
    }
    const done = await (own
      ? own(args, ask)
      : called?.apply(
          store,
          args.map((one) => one ?? undefined),
        ));
    say({ answer: ask, to: from, done: packed(done) });
  } catch (error) {
    say({ answer: ask, to: from, failed: failureOf(error) });
  }
}

addEventListener("message", ({ data }: MessageEvent<Message>) => {
  if ("ask" in data) {
    void answer(data);
  } else if ("breakOff" in data) {
    running.get(data.breakOff)?.abort();
  }
});
