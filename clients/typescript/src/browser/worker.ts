// The worker that has the store: it does what the pages of its origin ask for, one thing after the other, and tells them of
// what changes.
import type { Changed, DeviceRecord, ExchangeOptions, Values } from "../index.ts";
import { Store } from "../index.ts";
import { parse, type Value } from "../core/json.ts";
import { DeviceError } from "../device/errors.ts";
import { isThere, openPrivate, type PrivateDatabase } from "./database.ts";
import { failureOf, packed, type Answered, type Asked, type Message, type Told } from "./messages.ts";

let database: PrivateDatabase;
let named = "";
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
  named = name;
  store = new Store(database, { agent: navigator.userAgent });
  store.listen(note);
  addEventListener("online", () => store.soon());
}

/** Makes the store of a backup. A copy that got no identity of its own could reuse numbers, so none is left then. */
async function restore(name: string, backup: string): Promise<void> {
  const bytes = Uint8Array.from(atob(backup), (c) => c.charCodeAt(0));
  if (new TextDecoder().decode(bytes.slice(0, 15)) !== "SQLite format 3") {
    throw new DeviceError("damaged", "this is no backup of a store");
  }
  if (await isThere(name)) {
    throw new DeviceError("taken", `there is a store ${name} in this browser already; restore under another name`);
  }
  const made = await openPrivate(name, bytes);
  try {
    const restored = new Store(made, { agent: navigator.userAgent });
    await restored.renewAsRestored();
    restored.close();
  } catch (error) {
    await made.vanish();
    throw error;
  }
}

/** Repeats exchanges for whichever pages ask for it, until none does any more. */
let repeating: { pages: number; control: AbortController; over: Promise<void> } | undefined;

async function repeat(ask: string, every: number, follow: boolean): Promise<void> {
  if (!repeating) {
    const control = new AbortController();
    const tell = (summary?: object, error?: Error) =>
      say({ told: "exchanged", what: JSON.stringify({ summary, failed: error && failureOf(error) }) });
    const over = store.repeat({ every, follow, tell, signal: control.signal }).finally(() => (repeating = undefined));
    repeating = { pages: 0, control, over };
  }
  const { control, over } = repeating;
  repeating.pages++;
  const own = new AbortController();
  running.set(ask, own);
  own.signal.addEventListener("abort", () => {
    if (repeating && --repeating.pages === 0) {
      control.abort();
    }
  });
  await Promise.race([over, new Promise<void>((resolve) => own.signal.addEventListener("abort", () => resolve()))]);
  running.delete(ask);
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
  repeat: ([every, follow], ask) => repeat(ask, Number(every), follow === true),
  soon: () => store.soon(),
  restore: ([name, backup]) => restore(String(name), String(backup)),
  verify: ([mend]) => store.verify({ mend: mend === true }),
  erase: async ([discard]) => {
    const backup = `/${named}.last.db`;
    await store.erase(discard === true ? { backup } : {});
    const kept = database.holds(backup) ? based(await database.exportedFrom(backup)) : "";
    await database.vanish();
    return kept;
  },
  givenUp: ([path]) => database.lines(String(path)),
  push: (_, ask) => over(ask, (options) => store.push(options)),
  pull: (_, ask) => over(ask, (options) => store.pull(options)),
  status: () => ({
    enrolled: store.fact("token") !== "",
    central: store.fact("central"),
    worker: store.fact("worker"),
    settings: store.settings(),
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
  exported: async () => {
    store.mustBeSomebody();
    return based(await database.exported());
  },
};

/** Bytes as a text (base64), as pages and the worker pass them. */
function based(bytes: Uint8Array): string {
  return btoa(Array.from(bytes, (byte) => String.fromCharCode(byte)).join(""));
}

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
  "complete",
  "reopen",
  "coverage",
  "review",
  "sendAgain",
  "discard",
  "get",
  "find",
  "children",
  "collections",
  "definition",
  "fingerprint",
  "people",
  "setSecret",
  "signIn",
  "signOut",
  "join",
  "lookUp",
  "lookedUp",
  "setBudget",
  "exchanges",
  "turnBack",
  "takeBack",
  "keepDraft",
  "dropDraft",
  "drafts",
  "unasked",
  "counts",
  "below",
  "places",
  "history",
  "loss",
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

/** What puts something into the store that is to be there tomorrow. */
const saves = new Set([
  "enrol",
  "add",
  "edit",
  "editSeen",
  "remove",
  "complete",
  "reopen",
  "group",
  "settle",
  "sendAgain",
  "offerLost",
  "setSecret",
  "join",
  "keepDraft",
  "takeBack",
]);

/** Refuses to save once somebody has had the browser clear what the page stored: what is open is in no folder any more. */
async function mustBeKept(): Promise<void> {
  if (!(await isThere(named))) {
    throw new DeviceError(
      "cleared",
      "the browser has cleared what this page had stored, so nothing more can be saved here; exchange now, which still sends what is unsent, or back up, and then open the page anew",
    );
  }
}

async function answer({ ask, from, method, given }: Asked): Promise<void> {
  try {
    const args = parse(given) as Value[];
    if (method !== "open" && method !== "restore") {
      await opened; // another page may ask while this one is still opening it
    }
    if (saves.has(method)) {
      await mustBeKept();
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

say({ told: "running", what: "" });
