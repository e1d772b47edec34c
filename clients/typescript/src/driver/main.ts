// The device in Node, driven over standard input and output.
import { createInterface } from "node:readline";
import { openFile, restoreFile } from "../node.ts";
import { drive } from "./asks.ts";

await drive(
  {
    open: async (path, options) => openFile(path, options),
    restore: restoreFile,
    backUp: async (store, path) => store.backup(path),
    backups: async (store) => store.backups(),
    leaving: async (path, work) => work(path),
    request: fetch,
    say: (line) => process.stdout.write(`${line}\n`),
  },
  createInterface({ input: process.stdin }),
);
