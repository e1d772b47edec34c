// SQLite's own WebAssembly build over the origin's private files, which a worker reads and writes at once.
import initialize, { type Database as Opened, type SAHPoolUtil } from "@sqlite.org/sqlite-wasm";
import type { Database, Param } from "../device/database.ts";
import { DeviceError } from "../device/errors.ts";

/** SQLite's word for a disk, or what the browser gives of it, that is full. */
const full = 13;

/** Opens a database in the origin's private files. One worker has it open at a time. */
export async function openPrivate(name: string): Promise<PrivateDatabase> {
  const sqlite = await initialize({ print: () => {}, printErr: () => {} });
  let pool: SAHPoolUtil;
  try {
    pool = await sqlite.installOpfsSAHPoolVfs({ name: `homing-${name}`, directory: `.homing-${name}` });
    await pool.reserveMinimumCapacity(12);
  } catch (error) {
    throw new DeviceError(
      "no-storage",
      "this browser keeps no files for this page, so nothing can be saved; it may be a private window, or storage is not allowed",
      {
        cause: error,
      },
    );
  }
  return new PrivateDatabase(pool, new pool.OpfsSAHPoolDb(`/${name}.db`), `/${name}.db`);
}

export class PrivateDatabase implements Database {
  constructor(
    private readonly pool: SAHPoolUtil,
    private readonly db: Opened,
    private readonly path: string,
  ) {}

  run(sql: string, params: Param[] = []): number {
    return this.guarded(() => {
      this.db.exec({ sql, bind: params.length > 0 ? params : undefined });
      return Number(this.db.changes());
    });
  }

  all<T extends object>(sql: string, params: Param[] = []): T[] {
    return this.guarded(
      () =>
        this.db.exec({
          sql,
          bind: params.length > 0 ? params : undefined,
          returnValue: "resultRows",
          rowMode: "object",
        }) as unknown as T[],
    );
  }

  private guarded<T>(work: () => T): T {
    try {
      return work();
    } catch (error) {
      if ((error as { resultCode?: number }).resultCode === full) {
        throw new DeviceError("full", "the browser gives this page no more room; nothing of this was saved", {
          cause: error,
        });
      }
      throw error;
    }
  }

  close(): void {
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
