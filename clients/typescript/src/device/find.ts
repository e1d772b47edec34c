// Questions for records: conditions, words, order, a page at a time, as central answers them.
import { grades, type Collection, type Grade } from "../core/definition.ts";
import { number } from "../core/json.ts";
import type { Param } from "./database.ts";
import { Desk } from "./desk.ts";
import { isNumberField, listKey, numberOf, textOf } from "./columns.ts";
import { AskError } from "./errors.ts";
import type { Age } from "./keep.ts";
import type { DeviceRecord, Stored } from "./shelf.ts";

/** Which records of a collection are wanted. */
export interface Ask {
  /** Conditions such as "state=open"; all must hold, but of several that say what one field is, any. */
  where?: string[];
  /** Words that the record contains, each somewhere in its fields, whatever their case. */
  search?: string;
  /** Fields, comma-separated; a leading dash reverses. */
  sort?: string;
  /** 50 when left out; at most 1000. */
  limit?: number;
  offset?: number;
  /** Only records with a mark. */
  marked?: Mark;
  /** The nearest first: a field that holds places, and from where, in degrees (WGS 84). Sort comes after it. */
  near?: { field: string; lon: number; lat: number };
}

/** A mark that records have here: added here and not at central yet, changed here, refused, disputed, or wanting attention. */
export type Mark = "new" | "unsent" | "refused" | "disputed" | Grade | "attention";

/** Where records are: points and lines, as longitude and latitude. */
export interface Places {
  points: { id: string; at: [number, number]; grade: Grade | "" }[];
  lines: { id: string; along: [number, number][]; grade: Grade | "" }[];
  /** There are more than these. */
  more: boolean;
}

/** A page of records. */
export interface Found {
  records: DeviceRecord[];
  /** Records on all pages, as far as they are counted. */
  total: number;
  /** There are more than total. */
  more: boolean;
  /** When central last confirmed what is here; nothing where it never has. */
  asOf: string | null;
  age: Age;
}

const mostCounted = 10_000;
const mostPlaces = 20_000;
const most = { limit: 1000, words: 12, conditions: 20 };

interface Condition {
  field: string;
  op: string;
  value: string;
}

export class Finder extends Desk {
  /** Reads one record of the view. */
  get(collection: string, id: string): DeviceRecord {
    const c = this.readable(collection);
    const row = this.present(collection, id);
    if (row.used_at !== null) {
      this.db.run(`UPDATE records SET used_at = ? WHERE collection = ? AND id = ?`, [this.time(), collection, id]);
    }
    return this.show(c, row);
  }

  /** Lists the records of a collection that fit a question, a page at a time. */
  find(collection: string, ask: Ask = {}): Found {
    const c = this.readable(collection);
    const limit = ask.limit ?? 50;
    const offset = ask.offset ?? 0;
    if (limit < 1 || limit > most.limit || offset < 0) {
      throw new AskError(
        `limit ${limit}, offset ${offset}: take a limit of 1 to ${most.limit}, and no negative offset`,
      );
    }
    const [from, params] = this.fitting(c, ask);
    const total =
      this.one<{ n: number }>(`SELECT count(*) AS n FROM (SELECT 1 ${from} LIMIT ${mostCounted + 1})`, params)?.n ?? 0;
    const rows = this.db.all<Stored>(
      `SELECT * ${from} ORDER BY ${nearestFirst(c, ask.near)}${orderOf(c, ask.sort ?? "")} LIMIT ${limit} OFFSET ${offset}`,
      params,
    );
    return {
      records: rows.map((row) => this.show(c, row)),
      total: Math.min(total, mostCounted),
      more: total > mostCounted,
      ...this.ageOf(c),
    };
  }

  /** Where the records are that fit a question, by a field that holds places: many at once, for a map. */
  places(collection: string, field: string, ask: Ask = {}): Places {
    const c = this.readable(collection);
    if (!c.field(field)) {
      throw new AskError(`${collection} has no field ${JSON.stringify(field)}`);
    }
    const [from, params] = this.fitting(c, ask);
    const rows = this.db.all<{ id: string; place: string; grade: Grade | null }>(
      `SELECT id, fields->'$.${field}.coordinates' AS place,
         (SELECT grade FROM attention a WHERE a.collection = records.collection AND a.id = records.id) AS grade
         ${from} AND fields->'$.${field}' IS NOT NULL LIMIT ${mostPlaces + 1}`,
      params,
    );
    const places: Places = { points: [], lines: [], more: rows.length > mostPlaces };
    for (const { id, place, grade } of rows.slice(0, mostPlaces)) {
      const at = JSON.parse(place) as [number, number] | [number, number][];
      if (Array.isArray(at[0])) {
        places.lines.push({ id, along: at as [number, number][], grade: grade ?? "" });
      } else {
        places.points.push({ id, at: at as [number, number], grade: grade ?? "" });
      }
    }
    return places;
  }

  /** The part of a statement that chooses the records that fit a question, with its parameters. */
  private fitting(c: Collection, ask: Ask): [string, Param[]] {
    const words = (ask.search ?? "").split(/\s+/).filter((word) => word !== "");
    const conditions = (ask.where ?? []).map((text) => conditionOf(c, text));
    if (words.length > most.words || conditions.length > most.conditions) {
      throw new AskError(`take at most ${most.words} words and ${most.conditions} conditions`);
    }
    const terms = [`collection = '${c.name}'`, `NOT removed`];
    const params: Param[] = [];
    const named = new Map<string, Condition[]>();
    for (const condition of conditions) {
      const key = condition.op === "=" ? condition.field : `${named.size} ${condition.field}`;
      named.set(key, [...(named.get(key) ?? []), condition]);
    }
    for (const either of named.values()) {
      const ways = either.map((condition) => {
        const [term, value] = sqlOf(c, condition);
        params.push(value);
        return term;
      });
      terms.push(`(${ways.join(" OR ")})`);
    }
    for (const word of words) {
      for (const text of /["\\]/.test(word) ? [values] : ["fields", values]) {
        terms.push(`${text} LIKE ? ESCAPE '\\'`);
        params.push(pattern(word));
      }
    }
    if (ask.marked !== undefined) {
      terms.push(markedBy(c, ask.marked));
    }
    return [`FROM records WHERE ${terms.join(" AND ")}`, params];
  }

  /** Lists the records of a child collection that belong to a record. */
  children(of: DeviceRecord, child: string, ask: Ask = {}): Found {
    const { parent } = this.collection(child);
    if (parent?.collection !== of.collection) {
      throw new AskError(`${child} is not a collection whose parent is ${of.collection}`);
    }
    return this.find(child, {
      ...ask,
      where: [...(ask.where ?? []), `${parent.field}=${of.id}`],
    });
  }
}

const values = `(SELECT group_concat(value, ' ') FROM json_each(fields))`;

function conditionOf(c: Collection, text: string): Condition {
  const parts = /^([^!<>=~]+)(!=|<=|>=|=|<|>|~)(.*)$/s.exec(text);
  if (!parts) {
    throw new AskError(`condition ${JSON.stringify(text)}: write FIELD=VALUE, or with != < <= > >= or ~ (contains)`);
  }
  const [, field = "", op = "", value = ""] = parts.map((part) => part.trim());
  if (!c.field(field)) {
    throw new AskError(`condition ${JSON.stringify(text)}: ${c.name} has no field ${JSON.stringify(field)}`);
  }
  if (op !== "~" && value !== "" && isNumberField(c, field) && numeral(value) === undefined) {
    throw new AskError(`condition ${JSON.stringify(text)}: ${field} is a number, and ${JSON.stringify(value)} is none`);
  }
  return { field, op, value };
}

/** The term for records of a table of which something waits for a person: not for what was settled here and is unsent. */
export const openDispute = (records: string) =>
  `EXISTS (SELECT 1 FROM json_each(nullif(${records}.marks, ''), '$.disputes') d WHERE NOT EXISTS (SELECT 1 FROM outbox o
     WHERE o.collection = ${records}.collection AND o.record = ${records}.id AND o.state <> 'refused' AND o.base >= d.value->>'$.opened'
       AND CASE d.key WHEN 'record-removal' THEN o.kind = 'remove' OR o.fields = '{}'
         ELSE EXISTS (SELECT 1 FROM json_each(o.fields) e WHERE d.key = e.key OR d.key LIKE e.key || '/%') END))`;

/** The term for records with a mark. */
function markedBy(c: Collection, mark: Mark): string {
  switch (mark) {
    case "new":
      return `pending > 0 AND revision = 0`;
    case "unsent":
      return `pending > 0`;
    case "refused":
      return `id IN (SELECT record FROM outbox WHERE collection = '${c.name}' AND state IN ('refused', 'waiting'))`;
    case "disputed":
      return `instr(marks, '"disputes"') AND ${openDispute("records")}`;
    case "attention":
      return `id IN (SELECT id FROM attention WHERE collection = '${c.name}')`;
    default:
      if (!grades.includes(mark)) {
        throw new AskError(`${JSON.stringify(mark)} is no mark of a record`);
      }
      return `id IN (SELECT id FROM attention WHERE collection = '${c.name}' AND grade = '${mark}')`;
  }
}

/** An order by how far records are, on a plane that touches the earth there. A line is where it begins. */
function nearestFirst(c: Collection, near: Ask["near"]): string {
  if (!near) {
    return "";
  }
  if (!c.field(near.field) || !Number.isFinite(near.lon) || !Number.isFinite(near.lat)) {
    throw new AskError(`${c.name} has no places in ${JSON.stringify(near.field)}, or it is not said from where`);
  }
  const part = (n: number) =>
    `coalesce(fields->>'$.${near.field}.coordinates[0][${n}]', fields->>'$.${near.field}.coordinates[${n}]')`;
  const east = `abs(${part(0)} - ${near.lon})`;
  const north = `(${part(1)} - ${near.lat})`;
  const shrunk = Math.cos((near.lat * Math.PI) / 180) ** 2;
  return `${north} * ${north} + ${shrunk} * min(${east}, 360 - ${east}) * min(${east}, 360 - ${east}) NULLS LAST, `;
}

function numeral(text: string): number | undefined {
  try {
    return Number(number(text));
  } catch {
    return undefined;
  }
}

function sqlOf(c: Collection, { field, op, value }: Condition): [string, Param] {
  const text = textOf(c, field);
  if (op === "~") {
    return [`${text} LIKE ? ESCAPE '\\'`, pattern(value)];
  }
  const known = isNumberField(c, field) ? numeral(value) : undefined;
  const expression = known === undefined ? text : numberOf(c, field);
  if (value === "" && (op === "=" || op === "!=")) {
    return [`coalesce(${text}, '') ${op === "=" ? "=" : "<>"} ?`, ""];
  }
  if (op === "!=") {
    return [`(${expression} <> ? OR ${expression} IS NULL)`, known ?? value];
  }
  return [`${expression} ${op} ?`, known ?? value];
}

function orderOf(c: Collection, sort: string): string {
  const orders: string[] = [];
  let reverse = false;
  for (const part of sort.split(",").map((one) => one.trim())) {
    if (part === "") {
      continue;
    }
    reverse = part.startsWith("-");
    const name = reverse ? part.slice(1) : part;
    const way = reverse ? "DESC" : "ASC";
    if (name === "edited_at" || name === "revision") {
      orders.push(`${name} ${way}`);
    } else if (c.field(name)) {
      orders.push(`${listKey(c, name)} ${way} NULLS LAST`);
    } else {
      throw new AskError(`sort by ${JSON.stringify(name)}: ${c.name} has no such field`);
    }
  }
  return [...orders, reverse ? "id DESC" : "id ASC"].join(", ");
}

/** A LIKE pattern for texts that contain the given one. */
function pattern(text: string): string {
  return `%${text.toLowerCase().replace(/[\\%_]/g, "\\$&")}%`;
}
