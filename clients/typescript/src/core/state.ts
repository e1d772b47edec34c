// What the merge works on: records with their marks, as they travel and as central has them.
import { byBytes, parse, write, type Value } from "./json.ts";
import type { Stamp } from "./stamp.ts";

/** A value as its canonical JSON text. */
export type Raw = string;

/** The values of a record by field, each as its canonical JSON text. */
export type Fields = { [name: string]: Raw };

/** What became of one field; a side that is missing means no value. */
export interface Edited {
  from?: Raw;
  to?: Raw;
}

export type Delta = { [name: string]: Edited };

/** Names a change: the store that saved it, and its number there. */
export interface Source {
  incarnation: string;
  number: number;
}

/** An edit as decisions name it, with its stamp in central's time. */
export interface Side {
  revision: number;
  source: Source;
  stamp: Stamp;
}

/** A value that an edit has met. */
export interface Met {
  value?: Raw;
  side: Side;
}

/** Says when a field last got its value: at which revision, by which change. A revision of 0 stands for no mark. */
export interface Mark extends Side {
  met: Met[];
}

export const noMark: Mark = {
  revision: 0,
  source: { incarnation: "", number: 0 },
  stamp: "",
  met: [],
};

/** A field, or the removal of a record, that waits for a person. */
export interface Dispute {
  opened: number;
  base?: Raw;
  others: Met[];
}

/** The marks of a record. A field without one of its own has that of what it is part of, in the end base. */
export interface Marks {
  base: Mark;
  presence: Mark;
  fields: { [path: string]: Mark };
  disputes: { [name: string]: Dispute };
  carried: Mark;
}

export const noMarks: Marks = {
  base: noMark,
  presence: noMark,
  fields: {},
  disputes: {},
  carried: noMark,
};

/** A record as central has it. A removed one keeps its fields. A revision of 0 stands for no record at all. */
export interface State {
  revision: number;
  removed: boolean;
  fields: Fields;
  marks: Marks;
}

export const noRecord: State = {
  revision: 0,
  removed: false,
  fields: {},
  marks: noMarks,
};

/** Whether m is the later edit. Ties are broken by the source, the same way everywhere. */
export function beats(m: Side, other: Side): boolean {
  if (m.stamp !== other.stamp) {
    return m.stamp > other.stamp;
  }
  if (m.source.incarnation !== other.source.incarnation) {
    return m.source.incarnation > other.source.incarnation;
  }
  return m.source.number > other.source.number;
}

export function sideOf(m: Side): Side {
  return { revision: m.revision, source: m.source, stamp: m.stamp };
}

export function sameSource(a: Source, b: Source): boolean {
  return a.incarnation === b.incarnation && a.number === b.number;
}

/** The mark of a field, or of a part of one. */
export function markOf(marks: Marks, path: string): Mark {
  for (let name = path; ;) {
    const own = marks.fields[name];
    if (own) {
      return own;
    }
    const above = name.lastIndexOf("/");
    if (above < 0) {
      return marks.base;
    }
    name = name.slice(0, above);
  }
}

export function presenceOf(marks: Marks): Mark {
  return marks.presence.revision === 0 ? marks.base : marks.presence;
}

/** Whether the marks tell of a change: it is part of the record then. */
export function has(marks: Marks, source: Source): boolean {
  return [marks.base, presenceOf(marks), ...Object.values(marks.fields)].some((m) => sameSource(m.source, source));
}

/** The marks after some fields were set: a field that was set as a whole takes the marks of its parts away. */
export function marked(marks: Marks, set: { [path: string]: Mark }): Marks {
  const fields = blank(marks.fields);
  for (const [name, mark] of Object.entries(set)) {
    for (const other of Object.keys(fields)) {
      if (other.startsWith(`${name}/`)) {
        delete fields[other];
      }
    }
    fields[name] = mark;
  }
  return { ...marks, fields };
}

/** An object without a prototype, so that every text may be a key. */
export function blank<T>(from: { [name: string]: T } = {}): {
  [name: string]: T;
} {
  return Object.assign(Object.create(null) as { [name: string]: T }, from);
}

/** Fields after a delta. The fields that were given are not altered. */
export function apply(fields: Fields, delta: Delta): Fields {
  const after = blank(fields);
  for (const [name, edit] of Object.entries(delta)) {
    if (edit.to === undefined) {
      delete after[name];
    } else {
      after[name] = edit.to;
    }
  }
  return after;
}

/** What differs between two states of a record. */
export function diff(before: Fields, after: Fields): Delta {
  const delta: Delta = blank();
  for (const [name, to] of Object.entries(after)) {
    if (before[name] !== to) {
      delta[name] = edited(before[name], to);
    }
  }
  for (const [name, from] of Object.entries(before)) {
    if (after[name] === undefined) {
      delta[name] = { from };
    }
  }
  return delta;
}

export function edited(from: Raw | undefined, to: Raw | undefined): Edited {
  const one: Edited = {};
  if (from !== undefined) one.from = from;
  if (to !== undefined) one.to = to;
  return one;
}

/** Fields as one canonical JSON object. */
export function writeFields(fields: Fields): string {
  const members = Object.keys(fields)
    .sort(byBytes)
    .map((name) => `${write(name)}:${fields[name]}`);
  return `{${members.join(",")}}`;
}

/** A JSON object's members, each as its canonical text; null counts as no value. */
export function readFields(value: Value | undefined): Fields {
  const fields: Fields = blank();
  if (isObject(value)) {
    for (const [name, member] of Object.entries(value)) {
      if (member !== null) {
        fields[name] = write(member);
      }
    }
  }
  return fields;
}

export function isObject(value: Value | undefined): value is { [key: string]: Value } {
  return typeof value === "object" && value !== null && !Array.isArray(value) && Object.getPrototypeOf(value) === null;
}

/** A JSON object of edits as it travels. */
export function readDelta(value: Value | undefined): Delta {
  const delta: Delta = blank();
  if (isObject(value)) {
    for (const [name, one] of Object.entries(value)) {
      delta[name] = isObject(one) ? edited(rawOf(one.from), rawOf(one.to)) : {};
    }
  }
  return delta;
}

export function writeDelta(delta: Delta): string {
  const members = Object.keys(delta)
    .sort(byBytes)
    .map((name) => {
      const { from, to } = delta[name] as Edited;
      const sides = [from === undefined ? [] : [`"from":${from}`], to === undefined ? [] : [`"to":${to}`]].flat();
      return `${write(name)}:{${sides.join(",")}}`;
    });
  return `{${members.join(",")}}`;
}

function rawOf(value: Value | undefined): Raw | undefined {
  return value === undefined || value === null ? undefined : write(value);
}

/** Marks as they travel. */
export function readMarks(text: string): Marks {
  return marksFrom(text === "" ? null : parse(text));
}

export function marksFrom(value: Value | undefined): Marks {
  if (!isObject(value)) {
    return noMarks;
  }
  const fields: Marks["fields"] = blank();
  for (const [path, mark] of Object.entries(isObject(value.fields) ? value.fields : {})) {
    fields[path] = markFrom(mark);
  }
  const disputes: Marks["disputes"] = blank();
  for (const [name, open] of Object.entries(isObject(value.disputes) ? value.disputes : {})) {
    if (isObject(open)) {
      const base = rawOf(open.base);
      disputes[name] = {
        opened: Number(open.opened),
        ...(base === undefined ? {} : { base }),
        others: metFrom(open.others),
      };
    }
  }
  return {
    base: markFrom(value.base),
    presence: markFrom(value.presence),
    fields,
    disputes,
    carried: markFrom(value.carried),
  };
}

function markFrom(value: Value | undefined): Mark {
  if (!isObject(value)) {
    return noMark;
  }
  return {
    revision: Number(value.r),
    source: sourceFrom(value.by),
    stamp: String(value.at ?? ""),
    met: metFrom(value.met),
  };
}

export function sourceFrom(value: Value | undefined): Source {
  return isObject(value) ? { incarnation: String(value.incarnation), number: Number(value.number) } : noMark.source;
}

function metFrom(value: Value | undefined): Met[] {
  return (Array.isArray(value) ? value : []).filter(isObject).map((one) => {
    const side = isObject(one.side) ? one.side : Object.create(null);
    const raw = rawOf(one.value);
    return {
      ...(raw === undefined ? {} : { value: raw }),
      side: {
        revision: Number(side.revision),
        source: sourceFrom(side.source),
        stamp: String(side.stamp),
      },
    };
  });
}

/** Marks as central writes them: members in this order, of which the digest of a record is made. */
export function writeMarks(marks: Marks): string {
  const members = [`"base":${writeMark(marks.base)}`];
  if (marks.presence.revision > 0) members.push(`"presence":${writeMark(marks.presence)}`);
  const named = <T>(all: { [name: string]: T }, one: (it: T) => string) =>
    `{${Object.keys(all)
      .sort(byBytes)
      .map((name) => `${write(name)}:${one(all[name] as T)}`)
      .join(",")}}`;
  if (Object.keys(marks.fields).length > 0) members.push(`"fields":${named(marks.fields, writeMark)}`);
  if (Object.keys(marks.disputes).length > 0) members.push(`"disputes":${named(marks.disputes, writeDispute)}`);
  if (marks.carried.revision > 0) members.push(`"carried":${writeMark(marks.carried)}`);
  return `{${members.join(",")}}`;
}

function writeSource(source: Source): string {
  return `{"incarnation":${write(source.incarnation)},"number":${source.number}}`;
}

function writeMark(m: Mark): string {
  const met = m.met.length > 0 ? `,"met":[${m.met.map(writeMet).join(",")}]` : "";
  return `{"r":${m.revision},"by":${writeSource(m.source)},"at":${write(m.stamp)}${met}}`;
}

export function writeSide(side: Side): string {
  return `{"revision":${side.revision},"source":${writeSource(side.source)},"stamp":${write(side.stamp)}}`;
}

function writeMet(one: Met): string {
  return `{${one.value === undefined ? "" : `"value":${one.value},`}"side":${writeSide(one.side)}}`;
}

export function writeDispute(open: Dispute): string {
  const base = open.base === undefined ? "" : `,"base":${open.base}`;
  return `{"opened":${open.opened}${base},"others":[${open.others.map(writeMet).join(",")}]}`;
}
