// Values as the protocol has them: JSON of which no digit is lost, in one canonical form.

/** A number of which a double does not hold all digits. Text is its canonical form. */
export class Exact {
  constructor(readonly text: string) {}
  toString(): string {
    return this.text;
  }
}

/** Any JSON value; objects have no prototype, so that every text may be a key. */
export type Value = null | boolean | string | number | Exact | Value[] | { [key: string]: Value };

/** Whether a value is a list. */
export function isArray(value: Value | undefined): value is Value[] {
  return Array.isArray(value);
}

/** A text that cannot be the value of a field; the message says why. */
export class ValueError extends Error {
  override name = "ValueError";
}

const maxDepth = 32;
const maxBytes = 1 << 20;
const maxDigits = 100;
const maxPlain = 21;

const encoder = new TextEncoder();

/** The canonical form of a JSON text, as the protocol's page says under Values. Throws a [ValueError]. */
export function canonical(text: string): string {
  const written = write(parse(text));
  if (encoder.encode(written).length > maxBytes) {
    throw new ValueError(`the value has more than ${maxBytes} bytes`);
  }
  return written;
}

/** Reads a JSON text. A number is a double where that holds all its digits, and an [Exact] otherwise. */
export function parse(text: string): Value {
  const reader = new Reader(text);
  const value = reader.value(0);
  reader.end();
  return value;
}

/** Writes a value in canonical form. Undefined members are left out, as JSON.stringify does. */
export function write(value: Value): string {
  switch (typeof value) {
    case "string":
      return quote(value);
    case "number":
      if (!Number.isFinite(value)) {
        throw new ValueError(`${value} is no JSON number`);
      }
      return number(String(value));
    case "boolean":
      return value ? "true" : "false";
    case "undefined":
      return "null";
  }
  if (value === null) {
    return "null";
  }
  if (value instanceof Exact) {
    return number(value.text);
  }
  if (Array.isArray(value)) {
    return `[${value.map(write).join(",")}]`;
  }
  const members = Object.keys(value)
    .filter((key) => value[key] !== undefined)
    .sort(byBytes)
    .map((key) => `${quote(key)}:${write(value[key] as Value)}`);
  return `{${members.join(",")}}`;
}

/** Orders texts as their UTF-8 bytes are: by code points, where JavaScript compares halves of characters. */
export function byBytes(a: string, b: string): number {
  const length = Math.min(a.length, b.length);
  for (let n = 0; n < length; n++) {
    let x = a.charCodeAt(n);
    let y = b.charCodeAt(n);
    if (x !== y) {
      // Halves of a pair stand for characters beyond all that have one unit.
      if (x >= 0xd800 && x <= 0xdfff) x += 0x10000;
      if (y >= 0xd800 && y <= 0xdfff) y += 0x10000;
      return x - y;
    }
  }
  return a.length - b.length;
}

function quote(text: string): string {
  if (text.includes("\u0000")) {
    throw new ValueError("the character U+0000 cannot be stored");
  }
  if (/\p{Surrogate}/u.test(text)) {
    throw new ValueError("a text holds half of a character");
  }
  return JSON.stringify(text).replace(/[\u2028\u2029]/g, (c) => (c === "\u2028" ? "\\u2028" : "\\u2029"));
}

const literal = /^(-?)(0|[1-9][0-9]*)(?:\.([0-9]+))?(?:[eE]([+-]?[0-9]+))?$/;

/** The canonical form of a number: all its digits, in one notation. */
export function number(text: string): string {
  const parts = literal.exec(text);
  if (!parts) {
    throw new ValueError(`${text} is no JSON number`);
  }
  if (text.length > 10 * maxDigits) {
    throw new ValueError(`the number ${text.slice(0, 40)} is written with ${text.length} characters`);
  }
  const [, sign = "", whole = "", fraction = "", exponent = "0"] = parts;
  const all = whole + fraction;
  let digits = all.replace(/^0+/, "");
  const point = whole.length + Number(exponent) - (all.length - digits.length);
  digits = digits.replace(/0+$/, "");
  if (digits === "") {
    return "0";
  }
  if (digits.length > maxDigits) {
    throw new ValueError(`the number ${text.slice(0, 40)} has more than ${maxDigits} digits`);
  }
  const near = Number(text);
  if (!Number.isFinite(near) || near === 0) {
    throw new ValueError(`the number ${text.slice(0, 40)} is out of range`);
  }
  if (point > maxPlain || point < -5) {
    const behind = digits.length > 1 ? `.${digits.slice(1)}` : "";
    return `${sign}${digits[0]}${behind}e${point - 1}`;
  }
  if (point <= 0) {
    return `${sign}0.${"0".repeat(-point)}${digits}`;
  }
  if (point >= digits.length) {
    return `${sign}${digits}${"0".repeat(point - digits.length)}`;
  }
  return `${sign}${digits.slice(0, point)}.${digits.slice(point)}`;
}

/** The number that a canonical text stands for. */
export function numberOf(text: string): number | Exact {
  const near = Number(text);
  return number(String(near)) === text ? near : new Exact(text);
}

class Reader {
  private at = 0;
  constructor(private readonly text: string) {}

  value(depth: number): Value {
    this.blanks();
    const c = this.text[this.at];
    switch (c) {
      case "{":
        return this.object(depth + 1);
      case "[":
        return this.list(depth + 1);
      case '"':
        return this.string();
    }
    for (const [word, value] of words) {
      if (this.text.startsWith(word, this.at)) {
        this.at += word.length;
        return value;
      }
    }
    const rest = /^-?[0-9][0-9.eE+-]*/.exec(this.text.slice(this.at, this.at + 1200));
    if (!rest) {
      this.fail();
    }
    this.at += rest[0].length;
    return numberOf(number(rest[0]));
  }

  end(): void {
    this.blanks();
    if (this.at < this.text.length) {
      throw new ValueError("something follows the value");
    }
  }

  private fail(): never {
    throw new ValueError(`broken JSON at character ${this.at + 1}`);
  }

  private blanks(): void {
    while (" \t\n\r".includes(this.text[this.at] ?? "x")) {
      this.at++;
    }
  }

  private take(c: string): boolean {
    this.blanks();
    if (this.text[this.at] !== c) {
      return false;
    }
    this.at++;
    return true;
  }

  private string(): string {
    let end = this.at + 1;
    for (; end < this.text.length && this.text[end] !== '"'; end++) {
      if (this.text[end] === "\\") {
        end++;
      }
    }
    if (end >= this.text.length) {
      this.fail();
    }
    let value: string;
    try {
      value = JSON.parse(this.text.slice(this.at, end + 1)) as string;
    } catch {
      this.fail();
    }
    this.at = end + 1;
    return value;
  }

  private list(depth: number): Value[] {
    if (depth > maxDepth) {
      throw new ValueError(`nested deeper than ${maxDepth} levels`);
    }
    const all: Value[] = [];
    this.at++;
    if (this.take("]")) {
      return all;
    }
    for (;;) {
      all.push(this.value(depth));
      if (this.take("]")) {
        return all;
      }
      if (!this.take(",")) {
        this.fail();
      }
    }
  }

  private object(depth: number): { [key: string]: Value } {
    if (depth > maxDepth) {
      throw new ValueError(`nested deeper than ${maxDepth} levels`);
    }
    const all = Object.create(null) as { [key: string]: Value };
    this.at++;
    if (this.take("}")) {
      return all;
    }
    for (;;) {
      this.blanks();
      if (this.text[this.at] !== '"') {
        this.fail();
      }
      const key = this.string();
      if (key in all) {
        throw new ValueError(`the key ${JSON.stringify(key)} stands twice in one object`);
      }
      if (!this.take(":")) {
        this.fail();
      }
      all[key] = this.value(depth);
      if (this.take("}")) {
        return all;
      }
      if (!this.take(",")) {
        this.fail();
      }
    }
  }
}

const words: [string, Value][] = [
  ["true", true],
  ["false", false],
  ["null", null],
];
