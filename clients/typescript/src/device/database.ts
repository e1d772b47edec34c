// What a store needs of a database: SQLite, wherever it runs. Calls return when they are done.

export type Param = string | number | null;

/** A row by column; integers, texts and nulls. */
export type Row = { [column: string]: Param };

/** One open SQLite database. A transaction is as durable as the file under it once COMMIT has returned. */
export interface Database {
  /** Runs a statement and gives how many rows it changed. */
  run(sql: string, params?: Param[]): number;
  /** Runs a query and gives all rows. */
  all<T extends object = Row>(sql: string, params?: Param[]): T[];
  close(): void;
  /** Writes a copy of the whole database to a new file. */
  copyTo(path: string): void;
  /** Writes a copy beside the database, under its name and this ending. */
  copyBeside(ending: string): void;
  /** The copies beside the database. */
  besides(): string[];
  /** Closes the database, and removes it and the copies beside it. */
  wipe(): void;
  /** Adds lines to the end of a file beside the database. They have reached the disk when it returns. */
  append(path: string, lines: string[]): void;
}
