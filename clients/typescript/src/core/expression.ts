// CEL expressions (the Common Expression Language, an open specification) over records and workers: rights, territories,
// values that are worked out. Numbers of records are doubles, and a field without a value is null.
import {
  celEnv,
  celFunc,
  celMap,
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

const { DOUBLE, INT, DYN, BOOL } = CelScalar;

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

const environment = celEnv({
  funcs: [
    ...strings,
    celFunc("sum", [listType(DYN)], DOUBLE, sum),
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
