// What comes out of a case of the vectors, by the name of their file.
import { Collection, Series, type Brood, type Person } from "../core/definition.ts";
import { cover, periodsOf, type Cell, type Sums } from "../core/coverage.ts";
import { Expression, ExpressionError, valuesOf } from "../core/expression.ts";
import { bucket, changeDigest, FingerprintSet } from "../core/fingerprint.ts";
import { canonical, parse, ValueError, write, type Value } from "../core/json.ts";
import { merge, Refusal, type Kind, type Removal, type Rule, type Rules } from "../core/merge.ts";
import { dateOf, parsePeriod, periodOf, type PeriodKind } from "../core/period.ts";
import * as stamps from "../core/stamp.ts";
import {
  blank,
  isObject,
  noRecord,
  readDelta,
  readFields,
  readMarks,
  sourceFrom,
  writeDelta,
  writeFields,
  writeMarks,
  writeSide,
} from "../core/state.ts";

type Given = { [key: string]: Value };

const wrong = '{"wrong":true}';

function attempt(kind: new (...args: never[]) => Error, work: () => string): string {
  try {
    return work();
  } catch (error) {
    if (error instanceof kind) {
      return wrong;
    }
    throw error;
  }
}

const kinds: { [of: string]: (given: Given) => string } = {
  canonical: (given) => attempt(ValueError, () => `{"out":${JSON.stringify(canonical(String(given.in)))}}`),

  stamps: (given) => {
    if (given.parse !== undefined) {
      const stamp = stamps.parse(String(given.parse));
      return stamp === undefined ? wrong : `{"written":${write(stamp)}}`;
    }
    return `{"next":${write(stamps.next(String(given.last ?? ""), Number(given.now)))}}`;
  },

  offsets: (given) => {
    const [sent, received, answered, back] = [given.sent, given.received, given.answered, given.back].map(Number);
    const offset = stamps.measure(sent ?? 0, received ?? 0, answered ?? 0, back ?? 0);
    const corrected = stamps.correct(offset, String(given.stamp), Number(given.receipt));
    return `{"by":${Math.trunc(offset.by)},"error":${Math.trunc(offset.error)},"corrected":${write(corrected)}}`;
  },

  fingerprints: (given) => {
    const set = new FingerprintSet();
    const buckets = list(given.records).map((r) => {
      set.add(String(r.id), write(r.fields ?? null));
      return bucket(String(r.id));
    });
    return `{"count":${set.count},"fingerprint":${write(String(set))},"buckets":${write(buckets)}}`;
  },

  digests: (given) => {
    const c = isObject(given.change) ? given.change : blank<Value>();
    const group = isObject(c.group) ? { group: { id: String(c.group.id), of: Number(c.group.of) } } : {};
    const digest = changeDigest({
      number: Number(c.number),
      base: Number(c.base),
      stamp: String(c.stamp),
      editedAt: Date.parse(String(c.edited_at)),
      collection: String(c.collection),
      record: String(c.record),
      kind: String(c.kind),
      author: String(c.author),
      ...group,
      seen: list(c.seen).map(sourceFrom),
      folds: (c.folds as number[] | undefined) ?? [],
      fields: readDelta(c.fields),
    });
    return `{"digest":${write(digest)}}`;
  },

  series: (given) => {
    const series = new Series(String(given.series));
    const written = write(series.format(Number(given.n)));
    return `{"written":${written},"provisional":${write(series.provisional(String(given.id)))}}`;
  },

  attention: (given) => {
    const one = new Collection(given.definition ?? null).attention(readFields(given.fields), String(given.today));
    return one ? `{"say":${write(one.say)},"grade":${write(one.grade)}}` : "{}";
  },

  labels: (given) => {
    const definition = blank<Value>({
      collection: "huts",
      label: given.label ?? "",
    });
    return `{"called":${write(new Collection(definition).labelOf(readFields(given.fields)))}}`;
  },

  schemas: (given) => {
    const collection = new Collection(given.definition ?? null);
    return `{"wrong":${write(collection.validate(readFields(given.fields)).map((reason) => reason.field ?? ""))}}`;
  },

  expressions: (given) =>
    attempt(ExpressionError, () => {
      const names = ["name", "beds", "height", "tags", "heated", "opened", "parts", "note"];
      const record = valuesOf(readFields(given.record), names);
      return `{"gives":${write(new Expression(String(given.expression)).json({ record }))}}`;
    }),

  rights: (given) => {
    const collection = new Collection(given.definition ?? null);
    const worker = isObject(given.worker) ? given.worker : blank<Value>();
    const who: Person = {
      name: String(worker.name),
      role: String(worker.role) as Person["role"],
      territories: (worker.territories as string[] | undefined) ?? [],
    };
    const fields = readFields(given.record);
    const may = {
      territories: collection.territoriesOf(fields),
      read: collection.mayRead(who, fields),
      edit: collection.refuses("edit", who, fields, fields) === undefined,
      remove: collection.refuses("remove", who, fields) === undefined,
    };
    return JSON.stringify(may);
  },

  computed: (given) => {
    const broods: { [name: string]: Brood } = {};
    const children = isObject(given.children) ? given.children : blank<Value>();
    for (const definition of list(given.definitions)) {
      const collection = new Collection(definition);
      broods[collection.name] = {
        collection,
        records: list(children[collection.name]).map(readFields),
      };
    }
    const values = new Collection(given.definition ?? null).compute(readFields(given.fields), broods);
    return `{"values":${writeFields(values)}}`;
  },

  periods: (given) => {
    const p = parsePeriod(given.kind as PeriodKind, String(given.text));
    if (!p) {
      return wrong;
    }
    const kinds: PeriodKind[] = ["day", "month", "quarter", "week", "year"];
    const lies = Object.fromEntries(kinds.map((kind) => [kind, String(periodOf(kind, p.first))]));
    return JSON.stringify({ first: dateOf(p.first), last: dateOf(p.last), lies, next: String(p.plus(1)) });
  },

  coverage: (given) => (given.fields === undefined ? grid(given) : oneRecord(given)),

  merge: (given) => {
    const declared = isObject(given.rules) ? given.rules : blank<Value>();
    const rules: Rules = {
      fields: declared.fields as unknown as { [path: string]: Rule },
      nested: new Set(declared.nested as string[]),
      removal: declared.removal as Removal,
    };
    let state = noRecord;
    const steps = list(given.edits).map((e) => {
      const edit = {
        kind: e.kind as Kind,
        base: Number(e.base),
        fields: readDelta(e.fields),
        stamp: String(e.stamp),
        source: sourceFrom(e.source),
        seen: list(e.seen).map(sourceFrom),
      };
      try {
        const out = merge(rules, state, edit);
        state = out.state;
        const after = `{"revision":${state.revision}${state.removed ? ',"removed":true' : ""},"fields":${writeFields(
          state.fields,
        )},"marks":${writeMarks(state.marks)}}`;
        const members = [`"after":${after}`, `"answer":${write(out.verdict)}`];
        if (Object.keys(out.delta).length > 0) {
          members.push(`"delta":${writeDelta(out.delta)}`);
        }
        if (out.decisions.length > 0) {
          const decisions = out.decisions.map(
            (d) =>
              `{${d.field === undefined ? "" : `"field":${write(d.field)},`}"rule":${write(d.rule)},"kept":${write(
                d.kept,
              )},"other":${writeSide(d.other)}}`,
          );
          members.push(`"decisions":[${decisions.join(",")}]`);
        }
        return `{${members.join(",")}}`;
      } catch (error) {
        if (error instanceof Refusal) {
          return `{"refused":${write(error.code)}}`;
        }
        throw error;
      }
    });
    return `{"steps":[${steps.join(",")}]}`;
  },
};

function sumsOf(s: Sums): number[] {
  return [s.expected, s.complete, s.begun, s.missing, s.late, s.completedLate];
}

function grid(given: Given): string {
  const c = new Collection(given.definition ?? null);
  const of = new Collection(given.of ?? null);
  const today = Date.parse(String(given.today));
  const periods = periodsOf(c, String(given.from ?? ""), String(given.until ?? ""), today);
  if (!periods) {
    return wrong;
  }
  const places = list(given.places).map((p) => ({
    id: String(p.id),
    fields: readFields(p.fields),
    territories: ["*"],
  }));
  const entries = list(given.entries).map((e) => ({
    id: String(e.id),
    fields: readFields(e.fields),
    marks: readMarks(write(e.marks ?? null)),
    author: String(e.author),
    edited: String(e.edited),
  }));
  const g = cover(c, of, periods, today, places, entries);
  const cell = ({ state, late, expected, record, by, at }: Cell) => {
    const there = record === undefined ? {} : { record, by, at: Date.parse(at ?? "") };
    return { state, late, expected, ...there };
  };
  return JSON.stringify({
    periods: g.periods.map((one) => ({ ...one, sums: sumsOf(one.sums) })),
    places: g.places.map(({ id, label, cells, sums }) => ({
      id,
      label,
      cells: cells.map((one) => (one ? cell(one) : null)),
      sums: sumsOf(sums),
    })),
    sums: sumsOf(g.sums),
  });
}

function oneRecord(given: Given): string {
  const c = new Collection(given.definition ?? null);
  const who = given.worker as unknown as Person;
  const fields = readFields(given.fields);
  const before = given.before === undefined ? undefined : readFields(given.before);
  const id = c.oneID(fields);
  return JSON.stringify({
    ...(id === undefined ? {} : { id }),
    wrong: c
      .newlyWrong(before ?? {}, fields)
      .map((reason) => reason.field ?? "")
      .sort(),
    may: c.refuses(before ? "edit" : "add", who, before, fields) === undefined,
    ...(before ? { closed: c.closed("edit", before, fields).length > 0 } : {}),
  });
}

function list(value: Value | undefined): Given[] {
  return Array.isArray(value) ? value.filter(isObject) : [];
}

/** What comes out of a case, as JSON; nothing where there is no such file. */
export function workOut(of: string, given: Value): string | undefined {
  const work = kinds[of];
  return work?.(isObject(given) ? given : (parse("{}") as Given));
}
