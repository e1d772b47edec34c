// What a driven device does, line by line, as docs/conformance.md says; wherever it runs.
import { canonical, isArray, parse, write, type Value } from "../core/json.ts";
import { blank, isObject, writeDelta, writeDispute, writeSide } from "../core/state.ts";
import {
  AskError,
  DeviceError,
  InvalidError,
  Problem,
  type Ask,
  type DeviceRecord,
  type Found,
  type Options,
  type Queued,
  type Store,
} from "../index.ts";
import { workOut } from "./vectors.ts";

type Members = { [key: string]: Value };

/** Where the device runs. Paths are those of the machine that drives it. */
export interface Platform {
  open(path: string, options: Options): Promise<Store>;
  restore(backup: string, path: string, options: Options): Promise<void>;
  backUp(store: Store, path: string): Promise<void>;
  /** The copies that were made beside the store, as files. */
  backups(store: Store): Promise<string[]>;
  /** Gives up, as files on the machine, what work writes to a path beside the store. */
  leaving(path: string, work: (beside: string) => void): Promise<void>;
  /** Sends a request of the device's on its way to central. */
  request(url: string, init: RequestInit | undefined): Promise<Response>;
  say(line: string): void;
}

let platform: Platform;

/** What the clocks of the driven device show. */
let clock = { now: 0, boot: "", since: 0 };
let network = "";
let digits = "";
let made = 0;
let store: Store | undefined;

function setClock(said: Value | undefined): void {
  if (isObject(said) && said.boot) {
    clock = {
      now: Date.parse(String(said.now)),
      boot: String(said.boot),
      since: Number(said.since_ns) / 1e6,
    };
  }
}

/** An id of the device's time, the digits that were given, and a count. */
function newID(): string {
  made++;
  const at = Math.floor(clock.now).toString(16).padStart(12, "0").slice(-12);
  const tail = (digits + made.toString(16).padStart(6, "0")).padStart(18, "0").slice(-18);
  const variant = ((parseInt(tail[0] ?? "0", 16) & 3) | 8).toString(16);
  return `${at.slice(0, 8)}-${at.slice(8)}-7${tail.slice(0, 3)}-${variant}${tail.slice(3, 6)}-${tail.slice(6)}`;
}

const throughNetwork: typeof fetch = async (input, init) => {
  const { pathname, search } = new URL(String(input));
  const response = await platform.request(network.replace(/\/$/, "") + pathname + search, init);
  const said = response.headers.get("Homing-Driven-Clock");
  if (said) {
    setClock(parse(said));
  }
  return response;
};

const options = {
  now: () => clock.now,
  tick: () => ({ boot: clock.boot, since: clock.since }),
  newID,
  fetch: throughNetwork,
};

function setUp(given: Members): void {
  network = text(given.network);
  digits = text(given.ids);
  made = 0;
}

class Unknown extends Error {}

function opened(): Store {
  if (!store) {
    throw new Error("no store is open");
  }
  return store;
}

const asks: { [what: string]: (given: Members) => string | Promise<string> } = {
  open: async (given) => {
    store?.close();
    setUp(given);
    store = await platform.open(text(given.path), options);
    store.listen((changed) =>
      platform.say(`{"changed":${JSON.stringify(changed.missed ? { missed: true } : changed)}}`),
    );
    return "{}";
  },
  close: () => {
    opened().close();
    store = undefined;
    return "{}";
  },
  enrol: async (given) => {
    await opened().enrol(text(given.central), text(given.code), text(given.name));
    return "{}";
  },
  exchange: async () => JSON.stringify(await opened().exchange()),
  push: async () => JSON.stringify(await opened().push()),
  pull: async () => JSON.stringify(await opened().pull()),
  add: (given) => recordOf(opened().add(text(given.collection), members(given.fields))),
  edit: (given) =>
    recordOf(opened().edit(text(given.collection), text(given.id), members(given.fields), seen(given.saw))),
  remove: (given) => {
    opened().remove(text(given.collection), text(given.id), seen(given.saw));
    return "{}";
  },
  complete: (given) => recordOf(opened().complete(text(given.collection), text(given.id))),
  reopen: (given) => recordOf(opened().reopen(text(given.collection), text(given.id))),
  together: (given) => {
    const all = opened().group(() => {
      const records: DeviceRecord[] = [];
      for (const step of list(given.steps)) {
        const fields = blank(members(step.fields));
        for (const [name, earlier] of Object.entries(members(step.refers))) {
          fields[name] = records[Number(earlier)]?.id ?? null;
        }
        records.push(opened().add(text(step.collection), fields));
      }
      return records;
    });
    return `[${all.map(recordOf).join(",")}]`;
  },
  settle: (given) =>
    recordOf(opened().settle(text(given.collection), text(given.id), text(given.field), given.value ?? null)),
  review: () => `[${opened().review().map(queuedOf).join(",")}]`,
  "send-again": (given) => recordOf(opened().sendAgain(Number(given.number))),
  discard: async (given) => {
    await platform.leaving(text(given.path), (beside) => opened().discard(Number(given.number), beside));
    return "{}";
  },
  get: (given) => recordOf(opened().get(text(given.collection), text(given.id))),
  find: (given) => foundOf(opened().find(text(given.collection), askOf(given))),
  "look-up": async (given) => foundOf(await opened().lookUp(text(given.collection), askOf(given))),
  verify: async (given) => JSON.stringify(await opened().verify({ mend: given.mend === true })),
  collections: () => {
    const all = opened()
      .collections()
      .map(({ pulledAt, age: _, ...one }) => ({
        ...one,
        ...(pulledAt === null ? {} : { pulled_at: pulledAt }),
      }));
    return JSON.stringify(all);
  },
  definition: (given) => opened().definition(text(given.collection)),
  fingerprint: (given) => JSON.stringify(opened().fingerprint(text(given.collection))),
  people: () =>
    JSON.stringify(
      opened()
        .people()
        .map(({ signedIn, ...one }) => ({ ...one, signed_in: signedIn })),
    ),
  "set-secret": async (given) => {
    await opened().setSecret(text(given.old), text(given.secret));
    return "{}";
  },
  "sign-in": async (given) => {
    await opened().signIn(text(given.name), text(given.secret));
    return "{}";
  },
  "sign-out": async () => JSON.stringify(await opened().signOut()),
  join: async (given) => JSON.stringify(await opened().join(text(given.code), text(given.secret))),
  lost: () => {
    const all = opened().lostRecords();
    const lines = all.map(
      (one) =>
        `{"collection":${write(one.collection)},"id":${write(one.id)},"label":${write(one.label)},"whole":${one.whole},` +
        `"removed":${one.removed},"fields":${writeDelta(one.fields)},"edited_at":${write(new Date(one.editedAt).toISOString())}}`,
    );
    return `[${lines.join(",")}]`;
  },
  "offer-lost": (given) => {
    opened().offerLost(text(given.collection), text(given.id));
    return "{}";
  },
  "drop-lost": async (given) => {
    const { collection, id, path } = given;
    await platform.leaving(text(path), (beside) => opened().dropLost(text(collection), text(id), beside));
    return "{}";
  },
  "back-up": async (given) => {
    await platform.backUp(opened(), text(given.path));
    return "{}";
  },
  backups: async () => JSON.stringify(await platform.backups(opened())),
  restore: async (given) => {
    setUp(given);
    await platform.restore(text(given.backup), text(given.path), options);
    return "{}";
  },
  "work-out": (given) => {
    const out = workOut(text(given.of), given.case ?? null);
    if (out === undefined) {
      throw new Unknown(`there are no vectors ${text(given.of)} here`);
    }
    return out;
  },
};

function text(value: Value | undefined): string {
  return typeof value === "string" ? value : "";
}

function members(value: Value | undefined): Members {
  return isObject(value) ? value : {};
}

function list(value: Value | undefined): Members[] {
  return isArray(value) ? value.filter(isObject) : [];
}

function askOf(given: Members): Ask {
  const ask = members(given.find);
  return {
    where: isArray(ask.where) ? ask.where.map(text) : [],
    search: text(ask.search),
    sort: text(ask.sort),
    ...(ask.limit === undefined ? {} : { limit: Number(ask.limit) }),
    offset: Number(ask.offset ?? 0),
  };
}

function foundOf(found: Found): string {
  return `{"records":[${found.records.map(recordOf).join(",")}],"total":${found.total}}`;
}

function timeOf(at: string): string {
  return write(at === "" ? "0001-01-01T00:00:00Z" : at);
}

function recordOf(r: DeviceRecord): string {
  const disputes = Object.entries(r.disputes).map(([name, open]) => `${write(name)}:${writeDispute(open)}`);
  const decisions = r.decisions.map((d) => {
    const field = d.field === undefined ? "" : `"field":${write(d.field)},`;
    return `{${field}"rule":${write(d.rule)},"kept":${write(d.kept)},"other":${writeSide(d.other)}}`;
  });
  return (
    `{"collection":${write(r.collection)},"id":${write(r.id)},"label":${write(r.label)},"fields":${write(r.fields)},` +
    `"revision":${r.revision},"pending":${r.pending},"refused":${r.refused},"edited_at":${timeOf(r.editedAt)},` +
    `"author":${write(r.author)},"device":${write(r.device)},"disputes":{${disputes.join(",")}},"decisions":[${decisions.join(",")}],"lost":${r.lost}}`
  );
}

/** The record that an author had before them, as it was given. */
function seen(value: Value | undefined): DeviceRecord | undefined {
  if (!isObject(value)) {
    return undefined;
  }
  return {
    collection: text(value.collection),
    id: text(value.id),
    label: "",
    fields: members(value.fields),
    revision: Number(value.revision),
    pending: 0,
    refused: 0,
    editedAt: "",
    author: "",
    device: "",
    disputes: {},
    decisions: [],
    provisional: {},
    lost: false,
  };
}

function queuedOf(q: Queued): string {
  const answer = q.answer === undefined ? "" : `"answer":${write(q.answer)},`;
  return (
    `{"number":${q.number},"collection":${write(q.collection)},"record":${write(q.record)},"label":${write(q.label)},` +
    `"kind":${write(q.kind)},"base":${q.base},"fields":${writeDelta(q.fields)},"edited_at":${timeOf(q.editedAt)},` +
    `"author":${write(q.author)},"sent":${q.sent},${answer}"reasons":${JSON.stringify(q.reasons)}}`
  );
}

function failureOf(error: unknown): string {
  const message = error instanceof Error ? error.message : String(error);
  const name =
    error instanceof Unknown
      ? "unknown"
      : error instanceof DeviceError
        ? error.code
        : error instanceof InvalidError
          ? "invalid"
          : error instanceof Problem
            ? "problem"
            : "other";
  const reasons = error instanceof InvalidError ? `,"reasons":${JSON.stringify(error.reasons)}` : "";
  const problem =
    error instanceof Problem
      ? `,"problem":${JSON.stringify({ type: error.type, status: error.status, detail: error.detail })}`
      : "";
  if (name === "other" && !(error instanceof AskError)) {
    console.error(error instanceof Error ? error.stack : message);
  }
  return `"failed":{"name":${write(name)},"message":${write(message)}${reasons}${problem}}`;
}

async function answer(ask: Members): Promise<string> {
  try {
    const work = asks[text(ask.do)];
    if (!work) {
      throw new Unknown(`this program does not do ${text(ask.do)}`);
    }
    setClock(ask.clock);
    return `"done":${await work(members(ask.with))}`;
  } catch (error) {
    return failureOf(error);
  }
}

/** Takes the lines that come, one after the other, and says what came of each. */
export async function drive(on: Platform, lines: AsyncIterable<string>): Promise<void> {
  platform = on;
  for await (const line of lines) {
    const ask = parse(line);
    const said = await answer(members(ask));
    platform.say(`{"ask":${canonical(write(members(ask).ask ?? 0))},${said}}`);
  }
}
