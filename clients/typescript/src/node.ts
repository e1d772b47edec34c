// A device in Node: its store is a file.
import {
  closeSync,
  constants,
  copyFileSync,
  existsSync,
  fsyncSync,
  openSync,
  readdirSync,
  readFileSync,
  rmSync,
  writeFileSync,
  writeSync,
} from "node:fs";
import { basename, dirname, join } from "node:path";
import sqlite, { type Opened, type Prepared } from "node-sqlite3-wasm";
import type { Database, Param } from "./device/database.ts";
import { DeviceError } from "./device/errors.ts";
import type { Options } from "./device/file.ts";
import { Store } from "./index.ts";

export { typedHere as typed } from "./typed.ts";
export { Exact } from "./core/json.ts";

/** Opens the store in a file and makes the file if there is none. One process has it open at a time. */
export function openFile(path: string, options: Options = {}): Store {
  return new Store(new FileDatabase(path), options);
}

/**
 * Makes a store of a backup, in a file that is not there yet. It reuses no number of the lost store; what the backup holds
 * unsent goes to central under the old identity, and counts once, even if the lost store has sent it.
 */
export async function restoreFile(backup: string, path: string, options: Options = {}): Promise<void> {
  try {
    copyFileSync(backup, path, constants.COPYFILE_EXCL);
  } catch (error) {
    throw new DeviceError("taken", `${backup} cannot be restored to ${path}`, {
      cause: error,
    });
  }
  const store = openFile(path, options);
  try {
    await store.renewAsRestored();
  } catch (error) {
    store.close();
    rmSync(path); // a copy without an identity of its own could reuse numbers
    throw error;
  }
  store.close();
}

/** Opens a store in memory, for tests. */
export function openMemory(options: Options = {}): Store {
  return new Store(new FileDatabase(":memory:"), options);
}

/** How many statements are kept compiled. */
const mostStatements = 150;

class FileDatabase implements Database {
  private readonly db: Opened;
  private readonly statements = new Map<string, Prepared>();

  constructor(private readonly path: string) {
    if (path !== ":memory:") {
      take(path);
    }
    this.db = new sqlite.Database(path);
    if (path !== ":memory:") {
      // One flush a transaction. The log needs no shared memory where one process alone has the file.
      this.db.all(`PRAGMA locking_mode = EXCLUSIVE`);
      this.db.all(`PRAGMA journal_mode = WAL`);
    }
  }

  run(sql: string, params: Param[] = []): number {
    return this.prepared(sql).run(params).changes;
  }

  all<T extends object>(sql: string, params: Param[] = []): T[] {
    return this.prepared(sql).all(params) as T[];
  }

  /** A statement is compiled once and kept. */
  private prepared(sql: string): Prepared {
    let statement = this.statements.get(sql);
    if (!statement) {
      if (this.statements.size >= mostStatements) {
        this.forgetStatements();
      }
      statement = this.db.prepare(sql);
      this.statements.set(sql, statement);
    }
    return statement;
  }

  private forgetStatements(): void {
    for (const statement of this.statements.values()) {
      statement.finalize();
    }
    this.statements.clear();
  }

  close(): void {
    if (this.db.isOpen) {
      this.forgetStatements();
      this.db.close();
      rmSync(owner(this.path), { force: true });
    }
  }

  copyTo(path: string): void {
    if (existsSync(path)) {
      throw new DeviceError("taken", `${path} is there already`);
    }
    this.db.run(`VACUUM INTO ?`, [path]);
  }

  copyBeside(ending: string): void {
    if (this.path !== ":memory:") {
      this.copyTo(`${this.path}.${ending}.db`);
    }
  }

  besides(): string[] {
    const start = `${basename(this.path)}.before-`;
    const names = this.path === ":memory:" ? [] : readdirSync(dirname(this.path));
    return names.filter((name) => name.startsWith(start)).map((name) => join(dirname(this.path), name));
  }

  wipe(): void {
    const copies = this.besides();
    this.close();
    // The store itself goes last: until then it says that it is to go.
    for (const path of [...copies, `${this.path}-wal`, this.path]) {
      rmSync(path, { force: true });
    }
  }

  append(path: string, lines: string[]): void {
    const file = openSync(path, "a", 0o600);
    try {
      writeSync(file, lines.map((line) => `${line}\n`).join(""));
      fsyncSync(file);
    } finally {
      closeSync(file);
    }
  }
}

const owner = (path: string) => `${path}.owner`;

/** Notes that this process has the file. Where one had it that is no more, what locked it for that one is taken away. */
function take(path: string): void {
  if (existsSync(owner(path))) {
    const pid = Number(readFileSync(owner(path), "utf8"));
    if (pid !== process.pid && lives(pid)) {
      throw new DeviceError("busy", `${path} is open in another process (${pid})`);
    }
    rmSync(`${path}.lock`, { recursive: true, force: true });
  }
  writeFileSync(owner(path), String(process.pid), { mode: 0o600 });
}

function lives(pid: number): boolean {
  try {
    process.kill(pid, 0);
    return true;
  } catch {
    return false;
  }
}
