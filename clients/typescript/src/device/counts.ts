// What wants to be seen: marks of records, counted up to their parents, and what has become of one record so far.
import type { Grade } from "../core/definition.ts";
import { parse } from "../core/json.ts";
import type { Kind } from "../core/merge.ts";
import { readDelta, type Delta } from "../core/state.ts";
import { Finder, openDispute } from "./find.ts";

/** How many records have which mark. One that was added here counts as unsent, too. */
export interface Counts {
  records: number;
  new: number;
  unsent: number;
  refused: number;
  disputed: number;
  urgent: number;
  soon: number;
  note: number;
}

/** Something that has become of a record, as far as this device knows. */
export interface Past {
  kind: Kind;
  fields: Delta;
  at: string;
  author: string;
  /** Saved here: not sent, on its way, refused, waiting for another, or accepted; or what central had last. */
  state: "new" | "sent" | "refused" | "waiting" | "accepted" | "central";
  /** From which device, where central said so. */
  device: string;
  /** The number of a change that was saved here. */
  number: number;
}

type Marked = Omit<Counts, "records">;

const none = (): Marked => ({ new: 0, unsent: 0, refused: 0, disputed: 0, urgent: 0, soon: 0, note: 0 });

function add(to: Marked, more: Marked): void {
  for (const name of Object.keys(to) as (keyof Marked)[]) {
    to[name] += more[name];
  }
}

interface Row {
  id: string;
  up: string | null;
  new: number;
  unsent: number;
  refused: number;
  disputed: number;
  grade: Grade | null;
}

const refusedHere = `EXISTS (SELECT 1 FROM outbox o WHERE o.collection = r.collection AND o.record = r.id AND o.state IN ('refused', 'waiting'))`;

export class Counter extends Finder {
  /** What is counted below records, by collection and id; nothing once something has changed. */
  private counted: Map<string, Map<string, Marked>> | undefined;

  protected override note(collection: string, id: string, removed: boolean): void {
    this.counted = undefined;
    super.note(collection, id, removed);
  }

  protected override noteAll(): void {
    this.counted = undefined;
    super.noteAll();
  }

  /** How many records have which mark, by collection. */
  counts(): { [collection: string]: Counts } {
    this.mustBeSomebody();
    this.watchTheDay();
    const all: { [collection: string]: Counts } = {};
    for (const c of this.definitions().values()) {
      const records = this.one<{ n: number }>(
        `SELECT count(*) AS n FROM records WHERE collection = ? AND NOT removed`,
        [c.name],
      );
      const marks = none();
      this.marked(c.name).forEach((row) => add(marks, ownOf(row)));
      all[c.name] = { records: records?.n ?? 0, ...marks };
    }
    return all;
  }

  /** How many records below some of a collection have which mark; those below which none has any are left out. */
  below(collection: string, ids: string[]): { [id: string]: Marked } {
    this.mustBeSomebody();
    this.watchTheDay();
    this.counted ??= this.countUp();
    const here = this.counted.get(collection);
    const all: { [id: string]: Marked } = {};
    for (const id of ids) {
      const one = here?.get(id);
      if (one) {
        all[id] = one;
      }
    }
    return all;
  }

  /** Adds up the marks of children into their parents, the deepest collections first. */
  private countUp(): Map<string, Map<string, Marked>> {
    const definitions = this.definitions();
    const depth = (name: string): number => {
      const above = definitions.get(name)?.parent?.collection;
      return above === undefined ? 0 : 1 + depth(above); // central lets no parents go round in a circle
    };
    const sums = new Map<string, Map<string, Marked>>();
    const deepest = [...definitions.values()].filter((c) => c.parent).sort((a, b) => depth(b.name) - depth(a.name));
    for (const c of deepest) {
      const { collection: above = "", field = "" } = c.parent ?? {};
      const into = sums.get(above) ?? new Map<string, Marked>();
      sums.set(above, into);
      const raise = (up: string | null, marks: Marked) => {
        if (up !== null) {
          const sum = into.get(up) ?? none();
          into.set(up, sum);
          add(sum, marks);
        }
      };
      for (const row of this.marked(c.name, field)) {
        raise(row.up, ownOf(row));
      }
      const own = sums.get(c.name) ?? new Map<string, Marked>();
      const rows = this.db.all<{ id: string; up: string | null }>(
        `SELECT id, fields->>'$.${field}' AS up FROM records WHERE collection = ? AND id IN (SELECT value FROM json_each(?))`,
        [c.name, JSON.stringify([...own.keys()])],
      );
      for (const { id, up } of rows) {
        raise(up, own.get(id) ?? none());
      }
    }
    return sums;
  }

  /** The records of a collection that have a mark, with the parent that a field names. */
  private marked(collection: string, up?: string): Row[] {
    return this.db.all<Row>(
      `SELECT r.id, ${up === undefined ? "NULL" : `r.fields->>'$.${up}'`} AS up, r.pending > 0 AND r.revision = 0 AS new, r.pending > 0 AS unsent,
         r.pending > 0 AND ${refusedHere} AS refused, NOT r.removed AND instr(r.marks, '"disputes"') > 0 AND ${openDispute("r")} AS disputed, a.grade
       FROM records r LEFT JOIN attention a ON a.collection = r.collection AND a.id = r.id
       WHERE r.collection = ?1 AND r.id IN (SELECT id FROM records WHERE collection = ?1 AND pending > 0
         UNION SELECT id FROM records WHERE collection = ?1 AND instr(marks, '"disputes"')
         UNION SELECT id FROM attention WHERE collection = ?1)`,
      [collection],
    );
  }

  /** What has become of a record, as far as it is known here: the latest first. */
  history(collection: string, id: string): Past[] {
    const row = this.present(this.readable(collection).name, id);
    const saved = this.db.all<Omit<Past, "fields"> & { fields: string }>(
      `SELECT number, kind, fields, edited_at AS at, author, state FROM outbox
         WHERE collection = ?1 AND record = ?2 AND kept IS NULL
       UNION ALL SELECT number, kind, fields, edited_at, author, 'accepted' FROM travelled
         WHERE collection = ?1 AND record = ?2 AND kept IS NULL
       ORDER BY number DESC`,
      [collection, id],
    );
    const c = this.collection(collection);
    const past = saved.map((one): Past => {
      const fields = c.presentNames(readDelta(parse(one.fields)));
      return { ...one, fields, device: this.fact("name") };
    });
    const [author, device, at] =
      row.under_by === "" ? [row.author, row.device, row.edited_at] : (JSON.parse(row.under_by) as string[]);
    const told = past.some((one) => one.state === "accepted" && one.at === at && one.author === author);
    if (row.revision > 0 && at && !told) {
      const central: Past = {
        kind: row.revision === 1 ? "add" : "edit",
        fields: {},
        at,
        author: author ?? "",
        device: device ?? "",
        state: "central",
        number: 0,
      };
      past.push(central);
    }
    return past;
  }
}

function ownOf(row: Row): Marked {
  const marks = { ...none(), new: row.new, unsent: row.unsent, refused: row.refused, disputed: row.disputed };
  if (row.grade) {
    marks[row.grade] = 1;
  }
  return marks;
}
