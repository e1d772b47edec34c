// SQLite's own WebAssembly build over the origin's private files, which a worker reads and writes at once.
import initialize, {
  type Database as Opened,
  type PreparedStatement,
  type SAHPoolUtil,
  type Sqlite3Static,
} from "@sqlite.org/sqlite-wasm";
import type { Database, Param } from "../device/database.ts";
import { DeviceError } from "../device/errors.ts";

/** SQLite's words for a file that could not be read or written, and for a disk that is full. A browser does not say which. */
const unwritten = [10, 13];

/** How many statements are kept compiled. */
const mostStatements = 150;

/**
 * Opens a database in the origin's private files. One worker has it open at a time. From are the bytes of a database that it
 * starts as, where there is none of that name yet.
 */
export async function openPrivate(name: string, from?: Uint8Array): Promise<PrivateDatabase> {
  const sqlite = await initialize({ print: () => {}, printErr: () => {} });
  const pool = await openPool(sqlite, name);
  if (from && !pool.getFileNames().includes(`/${name}.db`)) {
    await pool.importDb(`/${name}.db`, from);
  }
  const db = new pool.OpfsSAHPoolDb(`/${name}.db`);
  // One flush a transaction. The log needs no shared memory where the worker alone has the file.
  db.exec(`PRAGMA locking_mode = EXCLUSIVE; PRAGMA journal_mode = WAL`);
  return new PrivateDatabase(pool, db, `/${name}.db`);
}

/** How long the files may still be held by a page that has just gone, in milliseconds. */
const patience = 30_000;

async function openPool(sqlite: Sqlite3Static, name: string): Promise<SAHPoolUtil> {
  // The types know nothing of the last one, without which a second try gets the error of the first.
  const options = { name: `homing-${name}`, directory: `.homing-${name}`, forceReinitIfPreviouslyFailed: true };
  for (const begun = performance.now(); ;) {
    try {
      const pool = await sqlite.installOpfsSAHPoolVfs(options);
      await pool.reserveMinimumCapacity(pool.getFileCount() + 12); // copies before risky steps stay
      return pool;
    } catch (error) {
      // A page lets go of the lock before the browser has ended its worker, which has the files.
      const held = (error as DOMException).name === "NoModificationAllowedError";
      if (!held || performance.now() - begun > patience) {
        throw new DeviceError(
          "no-storage",
          "this browser keeps no files for this page, so nothing can be saved; it may be a private window, or storage is not allowed",
          { cause: error },
        );
      }
      await new Promise((resolve) => setTimeout(resolve, 50));
    }
  }
}

/** Whether the origin's private files hold a database of a name. */
export async function isThere(name: string): Promise<boolean> {
  try {
    const root = await navigator.storage.getDirectory();
    await root.getDirectoryHandle(`.homing-${name}`);
    return true;
  } catch {
    return false;
  }
}

export class PrivateDatabase implements Database {
  private readonly statements = new Map<string, PreparedStatement>();

  constructor(
    private readonly pool: SAHPoolUtil,
    private readonly db: Opened,
    private readonly path: string,
  ) {}

  run(sql: string, params: Param[] = []): number {
    return this.guarded(() => {
      const statement = this.prepared(sql, params);
      try {
        statement.step();
        return Number(this.db.changes());
      } finally {
        statement.reset(true);
      }
    });
  }

  all<T extends object>(sql: string, params: Param[] = []): T[] {
    return this.guarded(() => {
      const statement = this.prepared(sql, params);
      const rows: T[] = [];
      try {
        while (statement.step()) {
          rows.push(statement.get({}) as T);
        }
        return rows;
      } finally {
        statement.reset(true);
      }
    });
  }

  /** A statement is compiled once and kept, with the parameters of this call. */
  private prepared(sql: string, params: Param[]): PreparedStatement {
    let statement = this.statements.get(sql);
    if (!statement) {
      if (this.statements.size >= mostStatements) {
        this.forgetStatements();
      }
      statement = this.db.prepare(sql);
      this.statements.set(sql, statement);
    }
    return params.length > 0 ? statement.bind(params) : statement;
  }

  private forgetStatements(): void {
    for (const statement of this.statements.values()) {
      statement.finalize();
    }
    this.statements.clear();
  }

  private guarded<T>(work: () => T): T {
    try {
      return work();
    } catch (error) {
      if (unwritten.includes(((error as { resultCode?: number }).resultCode ?? 0) % 256)) {
        const message =
          "the browser could not write to its files; it may give this page no more room. Nothing of this was saved";
        throw new DeviceError("full", message, { cause: error });
      }
      throw error;
    }
  }

  close(): void {
    this.forgetStatements();
    this.db.close();
  }

  copyTo(path: string): void {
    this.run(`VACUUM INTO ?`, [path]);
  }

  copyBeside(ending: string): void {
    this.copyTo(`${this.path}.${ending}.db`);
  }

  besides(): string[] {
    return this.pool.getFileNames().filter((name) => name.startsWith(`${this.path}.before-`));
  }

  wipe(): void {
    const copies = this.besides();
    this.close();
    for (const path of [...copies, `${this.path}-wal`, this.path]) {
      this.pool.unlink(path);
    }
  }

  /** Removes all that the origin keeps under this name, as if there had never been anything. */
  async vanish(): Promise<void> {
    if (this.db.isOpen()) {
      this.close();
    }
    await this.pool.removeVfs();
  }

  append(path: string, lines: string[]): void {
    const file = new this.pool.OpfsSAHPoolDb(path.startsWith("/") ? path : `/${path}`);
    try {
      file.exec(
        `PRAGMA synchronous = EXTRA; CREATE TABLE IF NOT EXISTS lines (n INTEGER PRIMARY KEY, line TEXT NOT NULL)`,
      );
      file.exec(`BEGIN`);
      for (const line of lines) {
        file.exec({ sql: `INSERT INTO lines (line) VALUES (?)`, bind: [line] });
      }
      file.exec(`COMMIT`);
    } finally {
      file.close();
    }
  }

  /** The lines of a file beside the database. */
  lines(path: string): string[] {
    const at = path.startsWith("/") ? path : `/${path}`;
    if (!this.holds(at)) {
      return [];
    }
    const file = new this.pool.OpfsSAHPoolDb(at);
    try {
      return file.selectValues(`SELECT line FROM lines ORDER BY n`) as string[];
    } finally {
      file.close();
    }
  }

  /** Whether there is a file of a name beside the database. */
  holds(name: string): boolean {
    return this.pool.getFileNames().includes(name);
  }

  /** A copy that was made beside the database, as one file. */
  async exportedFrom(name: string): Promise<Uint8Array> {
    return this.pool.exportFile(name);
  }

  /** A copy of the whole database as one file. */
  async exported(): Promise<Uint8Array> {
    const copy = `${this.path}.copy`;
    this.pool.unlink(copy);
    this.copyTo(copy);
    try {
      return await this.pool.exportFile(copy);
    } finally {
      this.pool.unlink(copy);
    }
  }
}
