// Where the values of fields stand in the table of records, as SQL. Names hold only small letters, digits and _.
import type { Collection } from "../core/definition.ts";
import { isObject } from "../core/state.ts";

/** In which column of the table the value of a field stands. */
export function column(c: Collection, name: string): string {
  const field = c.field(name);
  return field?.computed !== undefined ? "computed" : field?.local ? "local" : "fields";
}

export function textOf(c: Collection, name: string): string {
  return `CAST(${column(c, name)}->>'$.${name}' AS TEXT)`;
}

export function numberOf(c: Collection, name: string): string {
  const at = column(c, name);
  return `(CASE WHEN json_type(${at}, '$.${name}') IN ('integer','real') THEN ${at}->>'$.${name}' END)`;
}

export function isNumberField(c: Collection, name: string): boolean {
  const schema = c.field(name)?.schema;
  return isObject(schema) && (schema.type === "number" || schema.type === "integer");
}

/** What lists are sorted by, and what an index for them has. */
export function listKey(c: Collection, name: string): string {
  return isNumberField(c, name) ? numberOf(c, name) : `substr(lower(${textOf(c, name)}),1,200)`;
}
