// What is used here of node-sqlite3-wasm, which comes without types.
declare module "node-sqlite3-wasm" {
  export interface Prepared {
    run(values?: unknown[]): { changes: number };
    all(values?: unknown[]): object[];
    finalize(): void;
  }
  export interface Opened {
    readonly isOpen: boolean;
    prepare(sql: string): Prepared;
    run(sql: string, values?: unknown[]): { changes: number };
    all(sql: string, values?: unknown[]): object[];
    close(): void;
  }
  const sqlite: { Database: new (path: string) => Opened };
  export default sqlite;
}
