// The worker in Chromium that has the driven store. It takes lines from the program that started the browser.
import { openPrivate, type PrivateDatabase } from "../browser/database.ts";
import { DeviceError } from "../device/errors.ts";
import { Store } from "../index.ts";
import { drive } from "./asks.ts";

let database: PrivateDatabase;
let where = "";
/** What is said goes out in its order, one request after the other. */
let saying: Promise<unknown> = Promise.resolve();

const at = (path: string, more = "") => `/file?path=${encodeURIComponent(path)}${more}`;

async function bytesAt(path: string): Promise<Uint8Array | undefined> {
  const got = await fetch(at(path));
  return got.ok ? new Uint8Array(await got.arrayBuffer()) : undefined;
}

async function put(path: string, bytes: Uint8Array | string, more = ""): Promise<void> {
  const got = await fetch(at(path, more), { method: "PUT", body: bytes as BodyInit });
  if (!got.ok) {
    throw new DeviceError("taken", `${path} is there already`);
  }
}

async function* asked(): AsyncIterable<string> {
  for (;;) {
    yield await (await fetch("/next")).text();
  }
}

console.error = (text: string) => void fetch("/wrong", { method: "POST", body: `${text}\n` });

await drive(
  {
    open: async (path, options) => {
      // A file that somebody has put there is a store that was copied from elsewhere.
      database = await openPrivate("driven", await bytesAt(path));
      where = path;
      return new Store(database, options);
    },
    restore: async (backup, path, options) => {
      const bytes = await bytesAt(backup);
      if (!bytes) {
        throw new DeviceError("taken", `${backup} cannot be restored to ${path}`);
      }
      database = await openPrivate("driven", bytes);
      const store = new Store(database, options);
      await store.renewAsRestored();
      store.close();
    },
    backUp: async (store, path) => {
      store.mustBeSomebody();
      await put(path, await database.exported(), "&new");
    },
    backups: async (store) => {
      const all: string[] = [];
      for (const name of store.backups()) {
        const path = `${where}.${name.split(".before-").at(-1)}`;
        await put(path, await database.exportedFrom(name));
        all.push(path);
      }
      return all;
    },
    leaving: async (path, work) => {
      work("given-up");
      await put(
        path,
        database
          .lines("given-up")
          .map((line) => `${line}\n`)
          .join(""),
      );
    },
    request: async (url, init) => {
      const got = await fetch(`/central?to=${encodeURIComponent(url)}`, init);
      if (got.headers.has("Homing-Driven-Lost")) {
        throw new TypeError("nothing came back");
      }
      return got;
    },
    say: (line) => {
      saying = saying.then(() => fetch("/said", { method: "POST", body: `${line}\n` }));
    },
  },
  asked(),
);
