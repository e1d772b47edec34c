// A collection's definition, compiled: what a record is called, whether it is valid, who may do what with it, where it
// belongs, what is worked out.
import { Expression, ExpressionError, objectOf, valuesOf, type Variables } from "./expression.ts";
import { uuid5 } from "./id.ts";
import { parse, write, type Value } from "./json.ts";
import type { Removal, Rule, Rules } from "./merge.ts";
import { dateOf, parsePeriod, type Period, type PeriodKind } from "./period.ts";
import { inOrder, RecordSchema, type Reason } from "./schema.ts";
import { blank, isObject, type Delta, type Fields, type Raw } from "./state.ts";

export type Role = "reader" | "worker" | "lead" | "admin";

/** Somebody who asks for something. */
export interface Person {
  name: string;
  role: Role;
  territories: string[]; // * stands for all
}

/** One field of a definition. */
export interface Field {
  name: string;
  title: string;
  required: boolean;
  schema: Value;
  reference?: string;
  computed?: string;
  filled?: string;
  series?: string;
  local: boolean;
  /** The value is a period of this length. */
  period?: PeriodKind;
  /** The value is the name of whoever marked the record complete. */
  marks: boolean;
  /** In a form for many alike, the next record starts with the value of the last one. */
  again: boolean;
  /** Where the field is asked for, as an expression; everywhere where it is missing. */
  when?: string;
}

/** How much attention a record wants, the gravest first. */
export type Grade = "urgent" | "soon" | "note";
export const grades: Grade[] = ["urgent", "soon", "note"];

/** A condition that marks a record for the eye, such as overdue. */
export interface Attention {
  say: string;
  grade: Grade;
}

/** That there is one record for each place and period, and which are expected. */
export interface Covering {
  /** The fields that name the place and the period. */
  place: string;
  period: string;
  kind: PeriodKind;
  /** The collection of the places. */
  of: string;
  /** The field that says who marked a record complete; empty where nobody does. */
  complete: string;
  expected: { from: string; until: string; days: number };
}

/** The space of the ids of records of which there is one for each place and period. */
const oneSpace = "6d1f3b52-94a7-4c0e-8a6b-2f0c4f0a5e17";

/** Children of a record, with the definition that they have. */
export interface Brood {
  collection: Collection;
  records: Fields[];
}

export class Collection {
  readonly name: string;
  readonly version: number;
  readonly title: string;
  readonly fields: Field[];
  readonly parent?: { collection: string; field: string; removal: string };
  readonly renamed: { [earlier: string]: string };
  readonly direction: string;
  readonly keep: string;
  /** How old what a device holds may get before people are warned, and before it takes no edits. */
  readonly maxAge: { warn: string; block: string } | undefined;
  /** The fields by which lists are quick to sort and to filter. */
  readonly lists: string[];
  /** The field by which people know a record, and whether central takes no second one with the same. */
  readonly key: string;
  readonly unique: boolean;
  /** Whether every step of several edits is sent. */
  readonly everyStep: boolean;
  readonly rules: Rules;
  private readonly names: string[];
  private readonly schema: RecordSchema;
  private readonly label: string;
  private readonly access = new Map<string, Expression>();
  private readonly territory: Expression | undefined;
  private readonly computed = new Map<string, Expression>();
  private readonly when = new Map<string, Expression>();
  /** What is expected of places and periods. */
  readonly coverage: Covering | undefined;
  /** The fields of which no two records have the same; none where records may be alike. */
  readonly oneFor: string[];
  private readonly where: Expression | undefined;
  private readonly reopen: Expression | undefined;
  private readonly marking: { holds: Expression; attention: Attention }[];

  /** Compiles a definition as central sends it. Rules are the merge rules that hold, by path. */
  constructor(definition: Value, rules?: { [path: string]: Rule }) {
    const d = object(definition);
    const sync = object(d.sync);
    this.name = text(d.collection);
    this.version = Number(d.version ?? 0);
    this.title = text(d.title);
    this.label = text(d.label);
    this.fields = (Array.isArray(d.fields) ? d.fields : []).map(fieldOf);
    this.names = this.fields.map((field) => field.name);
    this.schema = new RecordSchema(this.fields);
    const parent = object(d.parent);
    if (parent.collection !== undefined) {
      this.parent = {
        collection: text(parent.collection),
        field: text(parent.field),
        removal: text(parent.removal),
      };
    }
    this.renamed = texts(d.renamed);
    this.direction = text(sync.direction);
    this.keep = text(sync.keep);
    const age = texts(sync.max_age);
    this.maxAge = sync.max_age === undefined ? undefined : { warn: age.warn ?? "", block: age.block ?? "" };
    this.lists = Array.isArray(d.lists) ? d.lists.map(text) : [];
    this.key = text(d.key);
    this.unique = d.unique === true;
    this.everyStep = sync.steps === "every";
    this.rules = {
      fields: rules ?? (texts(sync.rules) as { [path: string]: Rule }),
      nested: new Set(this.fields.filter(isNested).map((field) => field.name)),
      removal: (text(sync.removal) || "edit-stays") as Removal,
    };
    for (const [act, rule] of Object.entries(texts(d.access))) {
      if (rule !== "") {
        this.access.set(act, new Expression(rule));
      }
    }
    this.territory = sync.territory === undefined ? undefined : new Expression(text(sync.territory));
    this.marking = (Array.isArray(d.attention) ? d.attention : []).map(object).map((one) => ({
      holds: new Expression(text(one.when)),
      attention: { say: text(one.say), grade: text(one.grade) as Grade },
    }));
    const covers = object(d.coverage);
    if (d.coverage !== undefined) {
      const expected = texts(covers.expected);
      const place = text(covers.place);
      const period = text(covers.period);
      const [, days = 0, unit] = /^(\d+) (day|week)s?$/.exec(expected.due ?? "") ?? [];
      this.coverage = {
        place,
        period,
        kind: this.field(period)?.period ?? "day",
        of: this.field(place)?.reference ?? "",
        complete: text(covers.complete),
        expected: {
          from: expected.from ?? "",
          until: expected.until ?? "",
          days: Number(days) * (unit === "week" ? 7 : 1),
        },
      };
      this.where = expected.where ? new Expression(expected.where) : undefined;
      this.reopen = covers.reopen ? new Expression(text(covers.reopen)) : undefined;
    }
    this.oneFor = this.coverage ? [this.coverage.place, this.coverage.period] : this.unique ? [this.key] : [];
    for (const field of this.fields) {
      if (field.computed !== undefined) {
        this.computed.set(field.name, new Expression(field.computed));
      }
      if (field.when !== undefined) {
        this.when.set(field.name, new Expression(field.when));
      }
    }
  }

  /** Whether conditions mark records for the eye. */
  get attends(): boolean {
    return this.marking.length > 0;
  }

  /**
   * The first condition that holds for a record, in the order of the definition. Fields are those of the record with what is
   * worked out; today is a date where whoever looks is.
   */
  attention(fields: Fields, today: string): Attention | undefined {
    if (!this.attends) {
      return undefined;
    }
    const record = valuesOf(fields, this.names);
    return this.marking.find(({ holds }) => yes(holds, { record, today }))?.attention;
  }

  /** The fields that are not asked for of a record, by what stands in others. */
  unasked(fields: Fields): Set<string> {
    const record = this.when.size > 0 ? valuesOf(fields, this.names) : new Map();
    return new Set([...this.when].filter(([, when]) => !yes(when, { record })).map(([name]) => name));
  }

  field(name: string): Field | undefined {
    return this.fields.find((field) => field.name === name);
  }

  /** Whether anything is worked out. */
  get computes(): boolean {
    return this.computed.size > 0;
  }

  /** Whether records fall into territories; otherwise everybody covers all of them. */
  get territorial(): boolean {
    return this.territory !== undefined;
  }

  /** Whether a rule says what people may read. */
  get readable(): boolean {
    return this.access.has("read");
  }

  /** Whether devices send changes, and whether they get all that their workers cover. */
  get pushes(): boolean {
    return this.direction !== "down";
  }
  get loads(): boolean {
    return this.direction !== "up" && this.keep !== "on demand" && this.keep !== "never";
  }

  /** Edits under the names that their fields have now. */
  presentNames(delta: Delta): Delta {
    const present: Delta = blank();
    for (const [name, edit] of Object.entries(delta)) {
      present[this.renamed[name] ?? name] = edit;
    }
    return present;
  }

  /** What new records start with, of fields that nobody has set or left empty on purpose. */
  startOf(name: string): Raw | undefined {
    const field = this.field(name);
    const start = isObject(field?.schema) ? field.schema.default : undefined;
    return start === undefined || start === null || this.unsettable(name) ? undefined : write(start);
  }

  /** What is wrong with setting a field: nobody sets what is worked out, filled or numbered. */
  unsettable(name: string): string | undefined {
    const field = this.field(name);
    if (field?.computed !== undefined) return "is worked out from other values and cannot be set";
    if (field?.filled !== undefined) return "is filled in by central and cannot be set";
    if (field?.series !== undefined) return "is a number that central hands out and cannot be set";
    return field?.marks ? "says who marked the record complete: mark it, or open it again" : undefined;
  }

  /** A value as text; empty where there is none. */
  textOf(fields: Fields, name: string): string {
    const raw = fields[name];
    return raw === undefined ? "" : plain(raw);
  }

  /** The text that no other record may have; empty where the record lacks a part of it, or records may be alike. */
  oneText(fields: Fields): string {
    const parts = this.oneFor.map((name) => this.textOf(fields, name));
    return parts.includes("") ? "" : parts.join(" ");
  }

  /** The id of the record for a place and a period, the same on every device; nothing where fields lack one of them. */
  oneID(fields: Fields): string | undefined {
    const one = this.coverage && this.oneText(fields);
    return one ? uuid5(oneSpace, `${this.name} ${one}`) : undefined;
  }

  /** Who marked a record complete; empty where nobody did. */
  completedBy(fields: Fields): string {
    return this.coverage?.complete ? this.textOf(fields, this.coverage.complete) : "";
  }

  /** The last day on which the record for a period comes in time, as a midnight UTC. */
  due(p: Period): number {
    return p.last + (this.coverage?.expected.days ?? 0) * 86_400_000;
  }

  /** Whether a record is expected for a place and a period. Fields are those of the place, with what is worked out. */
  expects(of: Collection, fields: Fields, p: Period): boolean {
    const { from, until } = this.coverage!.expected;
    const written = String(p);
    if (written < from || (until !== "" && written > until)) {
      return false;
    }
    const period = new Map([
      ["text", written],
      ["first", dateOf(p.first)],
      ["last", dateOf(p.last)],
    ]);
    return !this.where || yes(this.where, { record: valuesOf(fields, of.names), period });
  }

  /** Why somebody may not mark a record complete, or open it again, in the way an edit does; nothing where they may. */
  private mayMark(who: Person, before: Fields, after: Fields): string | undefined {
    const was = this.completedBy(before);
    const is = this.completedBy(after);
    if (was === is || who.role === "admin" || (is !== "" && is === who.name)) {
      return undefined;
    }
    if (is !== "") {
      return `${who.name} cannot mark the record complete in the name of ${is}`;
    }
    const may = this.reopen
      ? yes(this.reopen, { worker: workerOf(who), record: valuesOf(before, this.names) })
      : was === who.name || who.role === "lead";
    return may ? undefined : `${was} has marked the record complete, and you may not open it again`;
  }

  /** Who marked a record complete that somebody would edit or remove; nothing where nobody did, or the edit opens it again. */
  closed(act: string, before: Fields, after: Fields): Reason[] {
    const by = this.completedBy(before);
    if (by === "" || act === "add" || (act === "edit" && this.completedBy(after) !== by)) {
      return [];
    }
    return [{ code: "complete", message: `${by} has marked the record complete; open it again first` }];
  }

  /** What a record is called in lists; empty when none of the label's fields has a value. */
  labelOf(fields: Fields): string {
    let filled = false;
    const called = this.label.replace(/\{([^}]*)\}/g, (_, name: string) => {
      const value = fields[name];
      filled ||= value !== undefined;
      return value === undefined ? "" : plain(value);
    });
    return filled ? called.trim() : "";
  }

  /** Everything that is wrong with a record. */
  validate(fields: Fields): Reason[] {
    const not = this.unasked(fields);
    const lax = this.coverage?.complete && this.completedBy(fields) === "";
    const wrong = this.schema.validate(fields).filter(({ code, field = "" }) => {
      const asked = !not.has(field) && !(lax && this.field(field) && !this.oneFor.includes(field));
      return code !== "missing" || asked;
    });
    for (const { name, period } of this.fields) {
      const value = period && fields[name]?.[0] === '"' ? this.textOf(fields, name) : undefined;
      if (period && value !== undefined && !parsePeriod(period, value)) {
        wrong.push({ field: name, code: "invalid-value", message: `"${value}" is no ${period}` });
      }
    }
    for (const name of not) {
      if (fields[name] !== undefined) {
        const message = `is asked for only where ${this.when.get(name)?.text}; take the value out`;
        wrong.push({ field: name, code: "not-asked", message });
      }
    }
    return inOrder(wrong);
  }

  /** What is wrong with after and was not wrong with before. */
  newlyWrong(before: Fields, after: Fields): Reason[] {
    const wrong = this.validate(after);
    for (const name of this.coverage ? this.oneFor : []) {
      if (before[name] !== undefined && before[name] !== after[name]) {
        const message = "says which record this is, and stays; add one for the other place or period";
        wrong.push({ field: name, code: "read-only", message });
      }
    }
    if (wrong.length === 0 || Object.keys(before).length === 0) {
      return wrong;
    }
    const old = new Set(this.validate(before).map((reason) => write(JSON.stringify(reason))));
    return wrong.filter((reason) => !old.has(write(JSON.stringify(reason))));
  }

  /** Whether somebody may see a record. Whoever asks also has to cover it. */
  mayRead(who: Person, fields: Fields): boolean {
    return this.refuses("read", who, fields, fields) === undefined;
  }

  /** Why somebody may not add, edit or remove a record; nothing where they may. */
  refuses(act: "read" | "add" | "edit" | "remove", who: Person, before?: Fields, after?: Fields): string | undefined {
    const unmarked = act === "add" || act === "edit" ? this.mayMark(who, before ?? {}, after ?? {}) : undefined;
    const rule = this.access.get(act);
    if (unmarked !== undefined) {
      return unmarked;
    }
    if (!rule || who.role === "admin") {
      return undefined;
    }
    try {
      const allowed = rule.bool({
        worker: workerOf(who),
        before: before ? valuesOf(before, this.names) : null,
        after: after ? valuesOf(after, this.names) : null,
      });
      return allowed ? undefined : `${who.name} may not ${act} this record of ${this.name}: the rule is ${rule.text}`;
    } catch (error) {
      if (error instanceof ExpressionError) {
        return `the rule for ${act} of ${this.name} could not decide: ${error.message}`;
      }
      throw error;
    }
  }

  /** The keys that a record falls into, in order. */
  territoriesOf(fields: Fields): string[] {
    if (!this.territory) {
      return ["*"];
    }
    return [...new Set(this.territory.texts({ record: valuesOf(fields, this.names) }))].sort();
  }

  /** The computed fields, each over the record with those before it. One that cannot be worked out is left out. */
  compute(fields: Fields, broods: { [collection: string]: Brood }): Fields {
    const computed: Fields = blank();
    if (this.computed.size === 0) {
      return computed;
    }
    const record = valuesOf(fields, this.names);
    const children = new Map(
      Object.entries(broods).map(([name, brood]) => [
        name,
        brood.records.map((child) => objectOf(child, brood.collection.names)),
      ]),
    );
    for (const field of this.fields) {
      const expression = this.computed.get(field.name);
      if (!expression) {
        continue;
      }
      try {
        const value = expression.json({ record, children });
        if (value !== null) {
          const raw = write(value);
          computed[field.name] = raw;
          record.set(field.name, valuesOf({ [field.name]: raw }, []).get(field.name) ?? null);
        }
      } catch (error) {
        if (!(error instanceof ExpressionError)) {
          throw error;
        }
      }
    }
    return computed;
  }
}

/** A person as expressions see one. */
function workerOf(who: Person): Map<string, string | string[]> {
  return new Map<string, string | string[]>([
    ["name", who.name],
    ["role", who.role],
    ["territories", who.territories],
  ]);
}

/** Whether somebody who holds some territories covers a record that falls into others. */
export function covers(held: string[], falls: string[]): boolean {
  return held.includes("*") || falls.includes("*") || falls.some((key) => held.includes(key));
}

/** Writes a value for people: a text without its quotes, anything else as JSON. */
export function plain(raw: Raw): string {
  return raw[0] === '"' ? (parse(raw) as string) : raw;
}

/** How the numbers of a series look: a text and then digits. */
export class Series {
  private readonly prefix: string;
  private readonly digits: number;

  constructor(first: string) {
    const parts = /^(.{0,30}?)([0-9]{1,12})$/u.exec(first);
    if (!parts) {
      throw new TypeError(`${JSON.stringify(first)} does not start a series`);
    }
    this.prefix = parts[1] ?? "";
    this.digits = (parts[2] ?? "").length;
  }

  /** Writes a number of the series; it gets longer when the digits do not suffice. */
  format(n: number): string {
    return this.prefix + String(n).padStart(this.digits, "0");
  }

  /** What stands in for the number of a record until central has given it. */
  provisional(id: string): string {
    return `${this.prefix}~${id.slice(-4).toUpperCase()}`;
  }
}

function fieldOf(value: Value): Field {
  const f = object(value);
  const some = (key: string) => (typeof f[key] === "string" && f[key] !== "" ? { [key]: f[key] } : {});
  return {
    name: text(f.name),
    title: text(f.title),
    required: f.required === true,
    schema: f.schema ?? true,
    local: f.local === true,
    again: f.again === true,
    marks: f.marks === true,
    ...some("period"),
    ...some("reference"),
    ...some("computed"),
    ...some("filled"),
    ...some("series"),
    ...some("when"),
  };
}

/** Whether a condition holds. One that cannot be worked out, since a value is missing, does not. */
function yes(condition: Expression, variables: Variables): boolean {
  try {
    return condition.bool(variables);
  } catch (error) {
    if (error instanceof ExpressionError) {
      return false;
    }
    throw error;
  }
}

/** Whether a field holds objects whose parts are merged by themselves. */
function isNested(field: Field): boolean {
  const schema = object(field.schema);
  return schema.type === "object" && isObject(schema.properties) && schema.$ref === undefined;
}

function object(value: Value | undefined): { [key: string]: Value } {
  return isObject(value) ? value : blank<Value>();
}

function text(value: Value | undefined): string {
  return typeof value === "string" ? value : "";
}

function texts(value: Value | undefined): { [name: string]: string } {
  const all = blank<string>();
  for (const [name, one] of Object.entries(object(value))) {
    all[name] = text(one);
  }
  return all;
}
