// Whether a record fits the JSON Schema (2020-12) of its definition. The schema is interpreted: pages that forbid making code
// from texts can use it. Bounds of numbers are exact, whatever digits a double would lose.
import { Validator, type OutputUnit, type Schema } from "@cfworker/json-schema";
import { withPatterns } from "./format.ts";
import { compare, decimal, isMultiple, type Decimal } from "./decimal.ts";
import { Exact, byBytes, number, parse, write, type Value } from "./json.ts";
import { blank, isObject, type Fields } from "./state.ts";

/** What is wrong with one value. Field is its path. */
export interface Reason {
  field?: string;
  code: string;
  message: string;
}

const position = {
  type: "array",
  minItems: 2,
  maxItems: 3,
  prefixItems: [
    { type: "number", minimum: -180, maximum: 180 },
    { type: "number", minimum: -90, maximum: 90 },
    { type: "number" },
  ],
};

function geometry(type: string, coordinates: object): Value {
  const schema = {
    type: "object",
    required: ["type", "coordinates"],
    additionalProperties: false,
    properties: { type: { const: type }, coordinates },
  };
  return parse(JSON.stringify(schema));
}

/** The schemas that a definition may refer to: GeoJSON geometries (RFC 7946, section 3.1), longitude first. */
const shapes: { [url: string]: Value } = {
  "urn:homing:point": geometry("Point", position),
  "urn:homing:line": geometry("LineString", {
    type: "array",
    minItems: 2,
    items: position,
  }),
};

/** A field as far as its schema goes. */
export interface SchemaField {
  name: string;
  required: boolean;
  schema: Value;
}

/** The schema of a record. */
export class RecordSchema {
  private readonly validator: Validator;
  private readonly fields: Map<string, SchemaField>;

  constructor(fields: SchemaField[]) {
    this.fields = new Map(fields.map((field) => [field.name, field]));
    const properties = blank<Value>();
    for (const field of fields) {
      properties[field.name] = withPatterns(withoutBounds(inlined(field.schema)));
    }
    const schema = { type: "object", properties, additionalProperties: true };
    this.validator = new Validator(doubles(schema as Value) as Schema, "2020-12", false);
  }

  /** Everything that is wrong with a record, in the order of the paths. None means that it is valid. */
  validate(fields: Fields): Reason[] {
    const values = blank<Value>();
    const reasons: Reason[] = [];
    for (const [name, text] of Object.entries(fields)) {
      const field = this.fields.get(name);
      if (!field) {
        reasons.push({
          field: name,
          code: "unknown-field",
          message: "the definition has no such field",
        });
        continue;
      }
      values[name] = parse(text);
      bounds(inlined(field.schema), values[name], name, reasons);
    }
    for (const field of this.fields.values()) {
      if (field.required && values[field.name] === undefined) {
        reasons.push({
          field: field.name,
          code: "missing",
          message: "a value is required",
        });
      }
    }
    const { errors } = this.validator.validate(doubles(values));
    for (const error of errors) {
      reasons.push(...reasonOf(error));
    }
    const known = new Set<string>();
    const each = reasons.filter((r) => {
      const key = `${r.field} ${r.code}`;
      return !known.has(key) && known.add(key);
    });
    return inOrder(each);
  }
}

/** Gives the same record the same words every time. */
export function inOrder(reasons: Reason[]): Reason[] {
  return reasons.sort((a, b) => byBytes(`${a.field} ${a.code}`, `${b.field} ${b.code}`));
}

/** Keywords that only say that something within is wrong. */
const around = new Set([
  "properties",
  "items",
  "prefixItems",
  "additionalProperties",
  "allOf",
  "$ref",
  "if",
  "contains",
  "patternProperties",
  "dependentSchemas",
  "unevaluatedProperties",
  "unevaluatedItems",
]);

function reasonOf(error: OutputUnit): Reason[] {
  const path = error.instanceLocation.replace(/^#\/?/, "");
  if (error.keyword === "required") {
    const name = /"([^"]*)"/.exec(error.error)?.[1] ?? "";
    return [
      {
        field: path === "" ? name : `${path}/${name}`,
        code: "missing",
        message: "a value is required",
      },
    ];
  }
  if (error.keyword === "false") {
    return [
      {
        field: path,
        code: "unknown-field",
        message: "the definition has no such field",
      },
    ];
  }
  if (around.has(error.keyword)) {
    return [];
  }
  const pattern = /^String does not match format "pattern (.*)"\.$/s.exec(error.error)?.[1];
  const message = pattern === undefined ? error.error : `does not match pattern ${JSON.stringify(pattern)}`;
  return [{ field: path, code: "invalid-value", message }];
}

/** A schema in which the known shapes stand in place of references to them. */
function inlined(schema: Value): Value {
  if (Array.isArray(schema)) {
    return schema.map(inlined);
  }
  if (!isObject(schema)) {
    return schema;
  }
  const shape = typeof schema.$ref === "string" ? shapes[schema.$ref] : undefined;
  if (shape) {
    return shape;
  }
  const all = blank<Value>();
  for (const [key, value] of Object.entries(schema)) {
    all[key] = inlined(value);
  }
  return all;
}

const numeric = ["minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf"] as const;

/** The schemas of what is within a value, as far as bounds are looked at here: not behind conditions and choices. */
function within(schema: { [key: string]: Value }): { [key: string]: Value } {
  const all = blank<Value>();
  for (const key of ["properties", "items", "prefixItems"]) {
    if (schema[key] !== undefined) {
      all[key] = schema[key] as Value;
    }
  }
  return all;
}

/** A schema without the bounds of numbers that [bounds] looks at. */
function withoutBounds(schema: Value): Value {
  if (Array.isArray(schema)) {
    return schema.map(withoutBounds);
  }
  if (!isObject(schema)) {
    return schema;
  }
  const all = blank(schema);
  for (const key of numeric) {
    delete all[key];
  }
  for (const [key, inside] of Object.entries(within(schema))) {
    if (key === "properties" && isObject(inside)) {
      const properties = blank<Value>();
      for (const [name, one] of Object.entries(inside)) {
        properties[name] = withoutBounds(one);
      }
      all[key] = properties;
    } else {
      all[key] = withoutBounds(inside);
    }
  }
  return all;
}

/** Notes which numbers lie beyond the bounds of their schema. */
function bounds(schema: Value, value: Value, path: string, reasons: Reason[]): void {
  if (!isObject(schema)) {
    return;
  }
  if (Array.isArray(value)) {
    const first = Array.isArray(schema.prefixItems) ? schema.prefixItems : [];
    value.forEach((one, n) => bounds(first[n] ?? schema.items ?? null, one, `${path}/${n}`, reasons));
    return;
  }
  if (isObject(value)) {
    const properties = isObject(schema.properties) ? schema.properties : blank<Value>();
    for (const [name, one] of Object.entries(value)) {
      bounds(properties[name] ?? null, one, `${path}/${name}`, reasons);
    }
    return;
  }
  const is = decimalOf(value);
  if (!is) {
    return;
  }
  const wrong = (message: string) => reasons.push({ field: path, code: "invalid-value", message });
  for (const key of numeric) {
    const limit = decimalOf(schema[key] ?? null);
    if (limit && !holds(key, is, limit)) {
      wrong(`${sentences[key]} ${write(schema[key] as Value)}, is ${write(value)}`);
    }
  }
  if (schema.type === "integer" && value instanceof Exact && !isMultiple(is, one)) {
    wrong("must be integer, is number");
  }
}

const one: Decimal = { digits: 1n, scale: 0 };

const sentences = {
  minimum: "must be at least",
  maximum: "must be at most",
  exclusiveMinimum: "must be more than",
  exclusiveMaximum: "must be less than",
  multipleOf: "must be a multiple of",
};

function holds(key: (typeof numeric)[number], is: Decimal, limit: Decimal): boolean {
  switch (key) {
    case "minimum":
      return compare(is, limit) >= 0;
    case "maximum":
      return compare(is, limit) <= 0;
    case "exclusiveMinimum":
      return compare(is, limit) > 0;
    case "exclusiveMaximum":
      return compare(is, limit) < 0;
    case "multipleOf":
      return isMultiple(is, limit);
  }
}

function decimalOf(value: Value): Decimal | undefined {
  return typeof value === "number" || value instanceof Exact ? decimal(number(String(value))) : undefined;
}

/** A value for programs that know doubles alone. Lists keep telling apart what a double does not. */
function doubles(value: Value): unknown {
  if (value instanceof Exact) {
    return Number(value.text);
  }
  if (Array.isArray(value)) {
    return value.map(doubles);
  }
  if (isObject(value)) {
    return Object.fromEntries(Object.entries(value).map(([name, inside]) => [name, doubles(inside)]));
  }
  return value;
}
