// CEL expressions (the Common Expression Language, an open specification) over records and workers: rights, territories,
// values that are worked out. Numbers of records are doubles, and a field without a value is null.
import {
  celEnv,
  celFunc,
  celList,
  celMap,
  celMethod,
  CelScalar,
  isCelError,
  isCelList,
  isCelMap,
  isCelUint,
  listType,
  parse as parseExpression,
  plan,
  type CelFunc,
  type CelInput,
  type CelList,
  type CelResult,
  type CelValue,
} from "@bufbuild/cel";
import { strings } from "@bufbuild/cel/ext";
import { Exact, parse, type Value } from "./json.ts";
import { blank, isObject, type Fields } from "./state.ts";

/** An expression that gives no value, or none of the kind that is needed. */
export class ExpressionError extends Error {
  override name = "ExpressionError";
}

const longest = 4000; // characters

/** The values of an expression's variables. */
export type Variables = { [name: string]: CelInput };

/** A compiled expression. */
export class Expression {
  private readonly run: (variables: Variables) => CelResult;

  constructor(readonly text: string) {
    if (text.length > longest) {
      throw new ExpressionError(`the expression has ${text.length} characters; at most ${longest}`);
    }
    try {
      this.run = plan(environment, parseExpression(text));
    } catch (error) {
      throw new ExpressionError(`${JSON.stringify(text)}: ${String(error)}`, {
        cause: error,
      });
    }
  }

  private eval(variables: Variables): CelValue {
    const objects = Object.entries(variables).map(([name, one]) => [name, one instanceof Map ? object(one) : one]);
    const got = this.run(Object.fromEntries(objects) as Variables);
    if (isCelError(got)) {
      throw new ExpressionError(`${JSON.stringify(this.text)}: ${got.message}`);
    }
    return got;
  }

  /** The result of an expression that says yes or no. */
  bool(variables: Variables): boolean {
    const got = this.eval(variables);
    if (typeof got !== "boolean") {
      throw new ExpressionError(`${JSON.stringify(this.text)} does not give true or false`);
    }
    return got;
  }

  /** The result of an expression that names something: a text, a list of texts, or null for none. */
  texts(variables: Variables): string[] {
    const got = this.eval(variables);
    if (got === null) {
      return [];
    }
    const all = isCelList(got) ? [...got] : [got];
    if (!all.every((one) => typeof one === "string")) {
      throw new ExpressionError(`${JSON.stringify(this.text)} does not give a text or a list of texts`);
    }
    return all;
  }

  /** The result as a JSON value. */
  json(variables: Variables): Value {
    return plainValue(this.eval(variables), this.text);
  }
}

function plainValue(value: CelValue, text: string): Value {
  if (value === null || typeof value === "boolean" || typeof value === "string") {
    return value;
  }
  if (typeof value === "bigint" || isCelUint(value)) {
    const whole = typeof value === "bigint" ? value : value.value;
    const near = Number(whole);
    return Number.isSafeInteger(near) ? near : String(whole); // as ProtoJSON writes integers that a double does not hold
  }
  if (typeof value === "number") {
    if (!Number.isFinite(value)) {
      throw new ExpressionError(`${JSON.stringify(text)} gives ${value}, which JSON cannot hold`);
    }
    return value === 0 ? 0 : value;
  }
  if (isCelList(value)) {
    return [...value].map((one) => plainValue(one, text));
  }
  if (isCelMap(value)) {
    const all = blank<Value>();
    for (const [key, one] of value) {
      if (typeof key !== "string") {
        throw new ExpressionError(`${JSON.stringify(text)} gives a map whose keys are no texts`);
      }
      all[key] = plainValue(one, text);
    }
    return all;
  }
  throw new ExpressionError(`${JSON.stringify(text)} gives what JSON cannot hold`);
}

/** Makes fields ready for an expression. Each of names that has no value is null. */
export function valuesOf(fields: Fields, names: string[]): Map<string, CelInput> {
  const values = new Map<string, CelInput>(names.map((name) => [name, null]));
  for (const [name, text] of Object.entries(fields)) {
    values.set(name, input(parse(text)));
  }
  return values;
}

/** [valuesOf] as a member of a list. */
export function objectOf(fields: Fields, names: string[]): CelInput {
  return object(valuesOf(fields, names));
}

function input(value: Value): CelInput {
  if (value instanceof Exact) {
    return Number(value.text);
  }
  if (Array.isArray(value)) {
    return value.map(input);
  }
  if (isObject(value)) {
    return object(new Map(Object.entries(value).map(([name, one]) => [name, input(one)])));
  }
  return value;
}

/** An object of which a member is there also where it is null, as has(a.b) and "b" in a ask. */
function object(members: Map<string, CelInput>): CelInput {
  const map = celMap(members as Map<string, CelValue>);
  return Object.defineProperty(map, "has", {
    value: (name: string) => members.has(name),
  });
}

function fail(message: string): never {
  throw new ExpressionError(message);
}

/** Adds exactly and rounds once, to the 15 decimal digits that a double always holds. */
function sum(list: CelList): number {
  let whole = 0n; // of 2^-1074, the smallest part of a double
  for (const one of list) {
    if (one === null) {
      continue;
    }
    const value = typeof one === "bigint" ? Number(one) : isCelUint(one) ? Number(one.value) : one;
    if (typeof value !== "number") {
      fail("sum needs numbers");
    }
    if (!Number.isFinite(value)) {
      fail("sum needs finite numbers");
    }
    whole += scaled(value);
  }
  return Number(fromScaled(whole).toPrecision(15));
}

const view = new DataView(new ArrayBuffer(8));

/** A double as a whole number of 2^-1074. */
function scaled(value: number): bigint {
  view.setFloat64(0, value);
  const bits = view.getBigUint64(0);
  const exponent = Number((bits >> 52n) & 0x7ffn);
  const fraction = bits & 0xfffffffffffffn;
  const size = exponent === 0 ? fraction : (fraction | 0x10000000000000n) << BigInt(exponent - 1);
  return bits >> 63n ? -size : size;
}

/** The double nearest to a whole number of 2^-1074, ties to even. */
function fromScaled(whole: bigint): number {
  const size = whole < 0n ? -whole : whole;
  const length = size.toString(2).length;
  const shift = Math.max(length - 53, 0);
  let top = size >> BigInt(shift);
  const rest = size - (top << BigInt(shift));
  const half = shift > 0 ? 1n << BigInt(shift - 1) : 0n;
  if (shift > 0 && (rest > half || (rest === half && top & 1n))) {
    top += 1n;
  }
  // Twice, since 2^-1074 times a number of 53 bits is beyond what one factor holds.
  const value = Number(top) * 2 ** Math.max(shift - 1074, -1022) * 2 ** Math.min(shift - 1074 + 1022, 0);
  return whole < 0n ? -value : value;
}

const { DOUBLE, INT, DYN, BOOL, STRING } = CelScalar;

function unary(name: string, of: (value: number) => number): CelFunc {
  return celFunc(name, [DOUBLE], DOUBLE, of);
}

/** Rounds halves away from zero, as the specification of the math functions says. */
function round(value: number): number {
  return Math.sign(value) * Math.round(Math.abs(value));
}

function extreme(name: string, sign: 1 | -1): CelFunc[] {
  const best = (all: number[]) =>
    all.length === 0 ? fail(`${name} of nothing`) : sign * Math.max(...all.map((one) => sign * one));
  const known = (one: CelValue) =>
    typeof one === "number" ? one : typeof one === "bigint" ? Number(one) : fail(`${name} needs numbers`);
  return [
    celFunc(name, [listType(DYN)], DOUBLE, (list) => best([...list].map(known))),
    unary(name, (one) => one),
    celFunc(name, [INT], INT, (one) => one),
    celFunc(name, [DOUBLE, DOUBLE], DOUBLE, (a, b) => best([a, b])),
    celFunc(name, [INT, INT], INT, (a, b) => ((sign > 0 ? a > b : a < b) ? a : b)),
    celFunc(name, [DOUBLE, INT], DOUBLE, (a, b) => best([a, Number(b)])),
    celFunc(name, [INT, DOUBLE], DOUBLE, (a, b) => best([Number(a), b])),
    celFunc(name, [DOUBLE, DOUBLE, DOUBLE], DOUBLE, (a, b, c) => best([a, b, c])),
  ];
}

/** Texts by whole characters, of which JavaScript counts some as two. */
const characters = (text: string) => [...text];

function inside(n: bigint, length: number): number {
  return n < 0n || n > BigInt(length) ? fail(`there is no character ${n}`) : Number(n);
}

function indexIn(text: string, part: string, from: number, step: 1 | -1): bigint {
  const [all, wanted] = [characters(text), characters(part)];
  for (let n = from; n >= 0 && n + wanted.length <= all.length; n += step) {
    if (wanted.every((one, k) => all[n + k] === one)) {
      return BigInt(n);
    }
  }
  return -1n;
}

function substring(text: string, from: bigint, to: bigint): string {
  const all = characters(text);
  return from > to
    ? fail("a part of a text ends before it starts")
    : all.slice(inside(from, all.length), inside(to, all.length)).join("");
}

function split(text: string, at: string, most: bigint): CelList {
  const parts = at === "" ? characters(text) : text.split(at);
  if (most >= 0n && BigInt(parts.length) > most) {
    const rest = parts.splice(Math.max(Number(most) - 1, 0)).join(at);
    return celList(most === 0n ? [] : [...parts, rest]);
  }
  return celList(parts);
}

/** A double as the other side writes it: with an exponent from a million on. */
function textOf(value: number): string {
  if (Number.isNaN(value)) {
    return "NaN";
  }
  if (!Number.isFinite(value)) {
    return value > 0 ? "+Inf" : "-Inf";
  }
  const [digits = "", exponent = ""] = value.toExponential().split("e");
  const size = Number(exponent);
  const most = 6; // digits before the point without an exponent
  if (Object.is(value, -0)) {
    return "-0";
  }
  return size < -4 || size >= most
    ? `${digits}e${size < 0 ? "-" : "+"}${String(Math.abs(size)).padStart(2, "0")}`
    : plainly(value);
}

/** Puts another text in place of a part, so many times; an empty part is before and behind each character. */
function replace(text: string, part: string, by: string, most: bigint): string {
  const parts = part === "" ? ["", ...characters(text), ""] : text.split(part);
  const times = most < 0n ? parts.length : Number(most);
  return parts.reduce((all, one, n) => all + (n <= times ? by : part) + one);
}

function plainly(value: number): string {
  const text = String(value);
  return text.includes("e") ? value.toFixed(20).replace(/0+$/, "") : text;
}

/** How many days a date is after another. Of a time, its date is taken as it is written. */
function days(from: CelValue, to: CelValue): bigint {
  const [first = 0, last = 0] = [from, to].map((value) => {
    const text = typeof value === "string" ? value.slice(0, 10) : fail("days needs two dates");
    const at = /^\d{4}-\d\d-\d\d$/.test(text) ? Date.parse(text) : NaN;
    // Date.parse lets the 30th of February through as the 2nd of March.
    const is = !Number.isNaN(at) && new Date(at).toISOString().startsWith(text);
    return is ? at : fail(`days needs dates such as 2026-05-01, not ${JSON.stringify(value)}`);
  });
  return BigInt((last - first) / 86_400_000);
}

function whole(text: string): bigint {
  const read = /^[+-]?\d+$/.test(text) ? BigInt(text) : fail(`${JSON.stringify(text)} is no whole number`);
  return BigInt.asIntN(64, read) === read ? read : fail(`${text} is too large`);
}

const format = strings.find((one) => one.name === "format");

/** Writes values into a text. A whole number may be a double, as those of records are, and a double a whole number. */
function formatted(text: string, values: CelList): string {
  const all = [...values];
  let n = 0;
  const asked = text.replace(/%(%|(?:\.\d+)?[a-zA-Z])/g, (token: string, clause: string) => {
    if (clause === "%") {
      return token;
    }
    const value = all[n];
    if (clause === "d" && typeof value === "number" && Number.isFinite(value)) {
      all[n] = plainly(value);
      token = "%s";
    } else if (/[fe]$/.test(clause) && typeof value === "bigint") {
      all[n] = Number(value);
    }
    n++;
    return token;
  });
  const got = format?.call(0, asked, [celList(all)]);
  return typeof got === "string" ? got : fail(`${JSON.stringify(text)} cannot be formatted so`);
}

const own = [
  celMethod("format", STRING, [listType(DYN)], STRING, function (values) {
    return formatted(this, values);
  }),
  celMethod("charAt", STRING, [INT], STRING, function (at) {
    const all = characters(this);
    return all[inside(at, all.length)] ?? "";
  }),
  celMethod("indexOf", STRING, [STRING], INT, function (part) {
    return indexIn(this, part, 0, 1);
  }),
  celMethod("indexOf", STRING, [STRING, INT], INT, function (part, from) {
    return indexIn(this, part, inside(from, characters(this).length), 1);
  }),
  celMethod("lastIndexOf", STRING, [STRING], INT, function (part) {
    return indexIn(this, part, characters(this).length - characters(part).length, -1);
  }),
  celMethod("lastIndexOf", STRING, [STRING, INT], INT, function (part, from) {
    const all = characters(this).length;
    if (from === BigInt(all)) {
      return -1n;
    }
    return indexIn(this, part, Math.min(inside(from, all), all - characters(part).length), -1);
  }),
  celMethod("substring", STRING, [INT], STRING, function (from) {
    return substring(this, from, BigInt(characters(this).length));
  }),
  celMethod("substring", STRING, [INT, INT], STRING, function (from, to) {
    return substring(this, from, to);
  }),
  celMethod("split", STRING, [STRING], listType(STRING), function (at) {
    return split(this, at, -1n);
  }),
  celMethod("split", STRING, [STRING, INT], listType(STRING), function (at, most) {
    return split(this, at, most);
  }),
  celMethod("replace", STRING, [STRING, STRING], STRING, function (part, by) {
    return replace(this, part, by, -1n);
  }),
  celMethod("replace", STRING, [STRING, STRING, INT], STRING, function (part, by, most) {
    return replace(this, part, by, most);
  }),
  celMethod("reverse", STRING, [], STRING, function () {
    return characters(this).reverse().join("");
  }),
  celFunc("string", [DOUBLE], STRING, textOf),
  celFunc("int", [STRING], INT, whole),
  celFunc("math.abs", [INT], INT, (one) => (one < 0n ? -one : one)),
  celFunc("math.sign", [INT], INT, (one) => BigInt(one > 0n ? 1 : one < 0n ? -1 : 0)),
  celFunc("math.sqrt", [INT], DOUBLE, (one) => Math.sqrt(Number(one))),
];
const mine = new Set(own.map((one) => one.name));

const environment = celEnv({
  funcs: [
    ...strings.filter((one) => !mine.has(one.name)),
    ...own,
    celFunc("sum", [listType(DYN)], DOUBLE, sum),
    celFunc("days", [DYN, DYN], INT, days),
    ...extreme("math.greatest", 1),
    ...extreme("math.least", -1),
    unary("math.ceil", Math.ceil),
    unary("math.floor", Math.floor),
    unary("math.round", round),
    unary("math.trunc", Math.trunc),
    unary("math.abs", Math.abs),
    unary("math.sign", Math.sign),
    unary("math.sqrt", Math.sqrt),
    celFunc("math.isNaN", [DOUBLE], BOOL, Number.isNaN),
    celFunc("math.isInf", [DOUBLE], BOOL, (one) => Math.abs(one) === Infinity),
    celFunc("math.isFinite", [DOUBLE], BOOL, Number.isFinite),
  ],
});
