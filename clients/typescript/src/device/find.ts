// Questions for records: conditions, words, order, a page at a time, as central answers them.
import type { Collection } from "../core/definition.ts";
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
    const from = `FROM records WHERE ${terms.join(" AND ")}`;
    const total =
      this.one<{ n: number }>(`SELECT count(*) AS n FROM (SELECT 1 ${from} LIMIT ${mostCounted + 1})`, params)?.n ?? 0;
    const rows = this.db.all<Stored>(
      `SELECT * ${from} ORDER BY ${orderOf(c, ask.sort ?? "")} LIMIT ${limit} OFFSET ${offset}`,
      params,
    );
    return {
      records: rows.map((row) => this.show(c, row)),
      total: Math.min(total, mostCounted),
      more: total > mostCounted,
      ...this.ageOf(c),
    };
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
