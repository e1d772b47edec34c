// The merge: what becomes of a record when a change meets it. The same at central and on every device; the vectors hold
// all implementations together.
import * as decimals from "./decimal.ts";
import { byBytes, number, parse, write } from "./json.ts";
import { join, partNames, partsOf, valueAt } from "./parts.ts";
import type { Stamp } from "./stamp.ts";
import {
  apply,
  beats,
  blank,
  diff,
  edited,
  markOf,
  marked,
  noMark,
  noMarks,
  presenceOf,
  sameSource,
  sideOf,
  type Delta,
  type Dispute,
  type Fields,
  type Mark,
  type Met,
  type Raw,
  type Side,
  type Source,
  type State,
} from "./state.ts";

export type Rule = "newest" | "first" | "ask" | "sum" | "min" | "max" | "union" | "append";
export type Removal = "edit-stays" | "removal-stays" | "ask";
export type Kind = "add" | "edit" | "remove";
export type Verdict = "applied" | "merged" | "held" | "refused" | "waiting";

/** Stands for a field in the dispute over whether a record is removed. */
export const recordRemoval = "record-removal";

/** What a collection's definition declares. A field without a rule has newest. */
export interface Rules {
  fields: { [path: string]: Rule };
  nested: ReadonlySet<string>;
  removal: Removal;
}

/** A change as the merge sees it, with its stamp in central's time. */
export interface Edit {
  kind: Kind;
  base: number;
  fields: Delta;
  stamp: Stamp;
  source: Source;
  /** What its author knew of besides what stood at base and what the same source said. */
  seen: Source[];
}

/** How a contested value was decided; without a field it is about the removal of the record. */
export interface Decision {
  field?: string;
  rule: string;
  kept: "central" | "change" | "both";
  other: Side;
}

export interface Outcome {
  state: State;
  /** What really changed. */
  delta: Delta;
  verdict: Verdict;
  decisions: Decision[];
}

/** Why a change cannot be merged at all. */
export class Refusal extends Error {
  override name = "Refusal";
  constructor(
    readonly code: string,
    message: string,
  ) {
    super(message);
  }
}

function knew(edit: Edit, source: Source): boolean {
  return source.incarnation === edit.source.incarnation || edit.seen.some((one) => sameSource(one, source));
}

/** Whether the author of the edit did not know of what set a mark. */
function foreign(edit: Edit, mark: Mark): boolean {
  return mark.revision > edit.base && !knew(edit, mark.source);
}

/** Applies an edit to a record. The given state is not altered. Throws a [Refusal]. */
export function merge(rules: Rules, state: State, edit: Edit): Outcome {
  check(state, edit);
  const mark: Mark = {
    revision: state.revision + 1,
    source: edit.source,
    stamp: edit.stamp,
    met: [],
  };
  if (state.revision === 0) {
    const fields = apply({}, edit.fields);
    return {
      state: {
        revision: 1,
        removed: false,
        fields,
        marks: { ...noMarks, base: mark },
      },
      delta: diff({}, fields),
      verdict: "applied",
      decisions: [],
    };
  }
  const out: Outcome = {
    state: { ...state, revision: mark.revision },
    delta: blank(),
    verdict: newsFor(state, edit) ? "merged" : "applied",
    decisions: [],
  };
  if (edit.kind === "remove") {
    remove(out, rules, state, edit, mark);
    return out;
  }
  const removal = presenceOf(state.marks);
  if (state.removed && rules.removal === "removal-stays" && edit.kind === "edit" && foreign(edit, removal)) {
    out.decisions.push({
      rule: "removal-stays",
      kept: "central",
      other: sideOf(removal),
    });
    return out;
  }
  const open = state.marks.disputes[recordRemoval];
  if (open && edit.kind === "edit" && Object.keys(edit.fields).length === 0 && edit.base >= open.opened) {
    // Whoever knows of the removal and edits nothing says that the record stays.
    out.state.marks = {
      ...without(out.state.marks, recordRemoval),
      presence: mark,
    };
    out.decisions.push({
      rule: "settled",
      kept: "central",
      other: (open.others[0] as Met).side,
    });
    return out;
  }
  if (state.removed) {
    bringBack(out, rules, edit, mark, removal);
  }
  set(out, rules, state, edit, mark);
  const asAsked = Object.entries(edit.fields).every(([name, one]) => out.state.fields[name] === one.to);
  if (out.verdict === "applied" && !asAsked) {
    out.verdict = "merged";
  }
  return out;
}

function check(state: State, edit: Edit): void {
  const presence = presenceOf(state.marks);
  if (edit.base > state.revision && state.revision === 0) {
    throw new Refusal(
      "unknown-record",
      `central has no such record; it may have been restored from before revision ${edit.base}`,
    );
  }
  if (edit.base > state.revision) {
    throw new Refusal(
      "unknown-base",
      `the change is based on revision ${edit.base}, but central's record is at ${state.revision}`,
    );
  }
  if (state.revision === 0 && edit.kind !== "add") {
    throw new Refusal("unknown-record", "central has no such record: it was never added, or its add was refused");
  }
  if (state.removed && edit.kind !== "add" && !foreign(edit, presence)) {
    throw new Refusal(
      "record-removed",
      edit.kind === "edit"
        ? `the record was removed at revision ${presence.revision}, before this edit; add it again to bring it back`
        : `the record was removed already, at revision ${presence.revision}`,
    );
  }
}

/** Whether the record holds anything of others that the edit's base did not. */
function newsFor(state: State, edit: Edit): boolean {
  const { base, carried, fields, disputes } = state.marks;
  const marks = [presenceOf(state.marks), base, carried, ...Object.values(fields)];
  const held = Object.values(disputes).flatMap((open) => open.others.map((one): Mark => ({ ...one.side, met: [] })));
  return [...marks, ...held].some((mark) => foreign(edit, mark));
}

function remove(out: Outcome, rules: Rules, state: State, edit: Edit, mark: Mark): void {
  if (state.removed) {
    return; // on both sides: they agree
  }
  const open = state.marks.disputes[recordRemoval];
  if (open) {
    const other = (open.others[0] as Met).side;
    if (edit.base < open.opened) {
      out.decisions.push({ rule: "ask", kept: "central", other });
      disputeRemoval(out, open, mark, edit);
      return;
    }
    out.state.marks = {
      ...without(out.state.marks, recordRemoval),
      presence: mark,
    };
    out.state.removed = true;
    out.decisions.push({ rule: "settled", kept: "change", other });
    return;
  }
  let latest = noMark;
  for (const name of Object.keys(state.marks.fields)) {
    const known = markOf(state.marks, name);
    if (foreign(edit, known) && (latest.revision === 0 || beats(known, latest))) {
      latest = known;
    }
  }
  const back = presenceOf(state.marks);
  if (latest.revision === 0 && foreign(edit, back)) {
    latest = back; // somebody brought it back
  }
  const met = latest.revision > 0;
  if (met && rules.removal === "ask") {
    out.decisions.push({ rule: "ask", kept: "central", other: sideOf(latest) });
    disputeRemoval(out, { opened: mark.revision, others: [] }, mark, edit);
    return;
  }
  if (met && rules.removal !== "removal-stays") {
    out.decisions.push({
      rule: "edit-stays",
      kept: "central",
      other: sideOf(latest),
    });
    return;
  }
  if (met) {
    out.decisions.push({
      rule: "removal-stays",
      kept: "change",
      other: sideOf(latest),
    });
  }
  out.state.removed = true;
  out.state.marks = { ...out.state.marks, presence: mark };
}

/** Lets the edit outlive a removal that its author did not know of, or an add revive what was removed. */
function bringBack(out: Outcome, rules: Rules, edit: Edit, mark: Mark, removal: Mark): void {
  if (foreign(edit, removal)) {
    const asks = rules.removal === "ask" && edit.kind === "edit";
    out.decisions.push({
      rule: asks ? "ask" : "edit-stays",
      kept: "change",
      other: sideOf(removal),
    });
    if (asks) {
      disputeRemoval(out, { opened: mark.revision, others: [] }, removal, edit);
    }
  }
  out.state.removed = false;
  out.state.marks = { ...out.state.marks, presence: mark };
}

/** Takes each field of the edit, or what comes out of it and what central has by the field's rule. */
function set(out: Outcome, rules: Rules, state: State, edit: Edit, mark: Mark): void {
  const marks = blank<Mark>();
  for (const name of Object.keys(edit.fields).sort(byBytes)) {
    const { from, to } = edit.fields[name] ?? {};
    const central = state.fields[name];
    const whole = rules.nested.has(name) ? setParts(out, rules, state, edit, mark, name, marks) : undefined;
    let value = whole?.value;
    if (!whole) {
      const m = new Meeting(rules, state, edit, {
        name,
        from,
        to,
        central,
        mark: { ...mark },
      });
      const [got, now] = m.setOne(out, state, edit);
      value = got;
      if (now) {
        marks[name] = now;
      }
    }
    if (central !== value) {
      out.delta[name] = edited(central, value);
    }
  }
  out.state.fields = apply(state.fields, out.delta);
  if (Object.keys(marks).length > 0) {
    out.state.marks = marked(out.state.marks, marks);
  }
}

/** Decides each part of a nested field that the edit has changed, as a field of its own. */
function setParts(
  out: Outcome,
  rules: Rules,
  state: State,
  edit: Edit,
  mark: Mark,
  name: string,
  marks: { [path: string]: Mark },
): { value: Raw | undefined } | undefined {
  const whole = edit.fields[name] ?? {};
  const from = partsOf(whole.from);
  const to = partsOf(whole.to);
  const central = partsOf(state.fields[name]);
  const broken = (raw: Raw | undefined, parts: Fields | undefined) => raw !== undefined && !parts;
  if (broken(whole.from, from) || broken(whole.to, to) || broken(state.fields[name], central) || (!to && !central)) {
    return undefined;
  }
  const parts = blank(central);
  for (const path of partNames(from ?? {}, to ?? {})) {
    if (from?.[path] === to?.[path]) {
      continue;
    }
    const at = `${name}/${path}`;
    const m = new Meeting(rules, state, edit, {
      name: at,
      from: from?.[path],
      to: to?.[path],
      central: central?.[path],
      mark: { ...mark },
    });
    const [value, now] = m.setOne(out, state, edit);
    if (now) {
      marks[at] = now;
    }
    if (value === undefined) {
      delete parts[path];
    } else {
      parts[path] = value;
    }
  }
  if (Object.keys(parts).length === 0 && whole.to === undefined) {
    return { value: undefined };
  }
  return { value: join(parts) };
}

interface Given {
  name: string;
  from: Raw | undefined;
  to: Raw | undefined;
  central: Raw | undefined;
  mark: Mark;
}

/** One field of an edit with what it meets at central. */
class Meeting {
  private readonly rule: Rule;
  private readonly name: string;
  private readonly from: Raw | undefined;
  private readonly to: Raw | undefined;
  private central: Raw | undefined;
  private known: Mark; // of central's value
  private readonly mark: Mark; // of the edit's
  private contested: boolean; // somebody else set central's value since the edit's base
  private readonly again: boolean; // the edit adds a record that is there, or was, without having seen it

  constructor(rules: Rules, state: State, edit: Edit, given: Given) {
    ({ name: this.name, from: this.from, to: this.to, central: this.central, mark: this.mark } = given);
    this.rule = ruleOf(rules, this.name);
    this.known = markOf(state.marks, this.name);
    this.again = edit.kind === "add" && this.from === undefined;
    // An add says nothing of what it leaves out: another add fills it, whichever was later, and so does an edit of that other add.
    const before = edit.kind === "edit" && edit.base === 0 && this.from === undefined;
    const filled = (this.again || before) && this.central === undefined && this.known === state.marks.base;
    this.contested = foreign(edit, this.known) && !filled;
  }

  /** Decides: the value that the field has then, and its mark where that is another than before. */
  setOne(out: Outcome, state: State, edit: Edit): [Raw | undefined, Mark | undefined] {
    const own = knew(edit, this.known.source);
    if (
      own &&
      this.known.source.incarnation === edit.source.incarnation &&
      this.known.source.number > edit.source.number
    ) {
      // The same store's later edit has come before this one. Differences count in any order; of values, the later stays.
      const counted = this.difference();
      if (counted) {
        this.mark.stamp = this.latest();
        return [counted.value, this.mark];
      }
      if (this.central !== this.to) {
        out.decisions.push(this.decision("newest", "central"));
        out.verdict = "merged";
      }
      return [this.central, undefined];
    }
    const unseen = this.known.met.filter(
      (one) =>
        one.side.revision > edit.base &&
        one.side.source.incarnation !== edit.source.incarnation &&
        !edit.seen.some((seen) => sameSource(seen, one.side.source)),
    );
    if (own && !this.contested && unseen.length > 0) {
      // What the store's earlier edit met, this one has not seen either.
      this.mark.met = unseen;
      if (!this.difference()) {
        const met = this.strongest(unseen);
        this.central = met.value;
        this.known = { ...met.side, met: [] };
        this.contested = true;
      }
    }
    if (this.dispute(out, state, edit)) {
      return [valueAt(state.fields, this.name), undefined];
    }
    const { value, kept } = this.decide();
    if (this.contested && kept) {
      out.decisions.push(this.decision(this.rule, kept));
      if (out.verdict === "applied") {
        out.verdict = "merged";
      }
    }
    if (kept === "central" || (!kept && this.contested && !beats(this.mark, this.known))) {
      return [this.central, this.lost(state, edit)];
    }
    if (this.contested && this.remembers()) {
      this.mark.met = withMet(unseen, {
        ...(this.central === undefined ? {} : { value: this.central }),
        side: sideOf(this.known),
      });
    }
    if (this.rule === "sum") {
      this.mark.stamp = this.latest(); // whatever the clocks say: no order of sums is taken from stamps
    }
    return [value, this.mark];
  }

  /** The stamp of a value that holds both, what was there and the edit. */
  private latest(): Stamp {
    return this.known.stamp > this.mark.stamp ? this.known.stamp : this.mark.stamp;
  }

  private decision(rule: string, kept: Decision["kept"]): Decision {
    return { field: this.name, rule, kept, other: sideOf(this.known) };
  }

  /** Whether the rule looks again at what an edit has met when the same store edits on without having seen it. */
  private remembers(): boolean {
    return ["first", "ask", "min", "max", "append"].includes(this.rule);
  }

  /** The value that an edit must stand against: with min and max the extreme one, otherwise the last. */
  private strongest(met: Met[]): Met {
    return met.reduce((best, one) => {
      let order = one.side.revision > best.side.revision ? -1 : 0;
      const compared = compare(one.value, best.value);
      if ((this.rule === "min" || this.rule === "max") && compared !== undefined) {
        order = this.rule === "max" ? -compared : compared;
      }
      return order < 0 ? one : best;
    });
  }

  /** The mark of central's value after the edit has lost against it, or nothing where that is as it was. */
  private lost(state: State, edit: Edit): Mark | undefined {
    const now = markOf(state.marks, this.name);
    const mine: Met = {
      ...(this.to === undefined ? {} : { value: this.to }),
      side: sideOf(this.mark),
    };
    if (now.revision !== this.known.revision) {
      const others = now.met.filter(
        (one) =>
          one.side.revision !== this.known.revision &&
          one.side.source.incarnation !== edit.source.incarnation &&
          !edit.seen.some((seen) => sameSource(seen, one.side.source)),
      );
      return { ...this.known, met: withMet(others, mine) };
    }
    const extreme = this.rule === "min" || this.rule === "max";
    if (!extreme && !(this.central === this.to && this.remembers())) {
      return undefined;
    }
    return { ...now, met: withMet(now.met, mine) };
  }

  /** Deals with a field whose rule is to ask, or that is disputed already. True where the edit was held. */
  private dispute(out: Outcome, state: State, edit: Edit): boolean {
    const known = state.marks.disputes[this.name];
    if (known && edit.base >= known.opened && !this.contested) {
      out.state.marks = without(out.state.marks, this.name);
      out.decisions.push(this.decision("settled", "change"));
      return false;
    }
    if (!known && (this.rule !== "ask" || !this.contested || this.to === this.central)) {
      return false;
    }
    if (known && !this.contested) {
      return false; // whoever's value stands goes on with it, not knowing of the dispute
    }
    const open = known ?? {
      opened: this.mark.revision,
      ...(this.from === undefined ? {} : { base: this.from }),
      others: [],
    };
    const mine: Met = {
      ...(this.to === undefined ? {} : { value: this.to }),
      side: sideOf(this.mark),
    };
    out.state.marks = disputed(out.state.marks, this.name, joined(open, mine, edit.seen));
    out.decisions.push(this.decision("ask", "central"));
    out.verdict = "held";
    return true;
  }

  /** The field's value and which side was kept: none where both say the same, or nothing was contested. */
  private decide(): { value: Raw | undefined; kept?: Decision["kept"] } {
    const same = this.rule === "append" && this.central === this.to;
    const counted = same ? undefined : this.difference();
    if (counted) {
      return this.contested ? { value: counted.value, kept: "both" } : { value: counted.value };
    }
    if (!this.contested || this.central === this.to) {
      return { value: this.to };
    }
    const mine = { value: this.to, kept: "change" as const };
    const theirs = { value: this.central, kept: "central" as const };
    if (this.rule === "first") {
      return theirs;
    }
    if (this.rule === "min" || this.rule === "max") {
      const order = compare(this.to, this.central);
      if (order !== undefined) {
        return order < 0 === (this.rule === "min") ? mine : theirs;
      }
    }
    return beats(this.mark, this.known) ? mine : theirs;
  }

  /** Brings what the edit added or took away to central's value, for rules that work so. */
  private difference(): { value: Raw | undefined } | undefined {
    switch (this.rule) {
      case "sum":
        return this.again ? larger(this.central, this.to) : sum(this.central, this.from, this.to);
      case "union":
        return union(this.central, this.from, this.to);
      case "append":
        return this.appended();
    }
    return undefined;
  }

  /** Brings what the edit added at the end of a text to central's; additions of both go in the order of their stamps. */
  private appended(): { value: Raw } | undefined {
    const from = textOf(this.from);
    const to = textOf(this.to);
    const central = textOf(this.central);
    if (from === undefined || to === undefined || central === undefined || this.to === undefined) {
      return undefined;
    }
    if (!to.startsWith(from) || !within(from, central)) {
      return undefined;
    }
    if (this.central === this.from) {
      return { value: this.to };
    }
    const mine = to.slice(from.length);
    if (central.startsWith(from) && this.contested && !beats(this.mark, this.known)) {
      return { value: write(from + mine + central.slice(from.length)) };
    }
    return { value: write(central + mine) };
  }
}

function ruleOf(rules: Rules, path: string): Rule {
  for (let name = path; ;) {
    const own = rules.fields[name];
    if (own) {
      return own;
    }
    const above = name.lastIndexOf("/");
    if (above < 0) {
      return "newest";
    }
    name = name.slice(0, above);
  }
}

/** Adds what a store wanted last; what it wanted before is no longer wanted by anybody. */
function withMet(met: Met[], one: Met): Met[] {
  return [...met.filter((other) => other.side.source.incarnation !== one.side.source.incarnation), one];
}

function without(marks: State["marks"], name: string): State["marks"] {
  const disputes = blank(marks.disputes);
  delete disputes[name];
  return { ...marks, disputes };
}

function disputed(marks: State["marks"], name: string, open: Dispute): State["marks"] {
  return {
    ...marks,
    disputes: Object.assign(blank(marks.disputes), { [name]: open }),
  };
}

/** Adds what somebody wants; what a store says later takes the place of what it said before. */
function joined(open: Dispute, mine: Met, seen: Source[]): Dispute {
  const at = open.others.findIndex(
    (one) =>
      one.side.source.incarnation === mine.side.source.incarnation ||
      seen.some((source) => sameSource(source, one.side.source)),
  );
  return {
    ...open,
    others: at < 0 ? [...open.others, mine] : open.others.with(at, mine),
  };
}

/** Holds a removal: the record stays until a person has decided. */
function disputeRemoval(out: Outcome, open: Dispute, removal: Mark, edit: Edit): void {
  const mine: Met = { value: "true", side: sideOf(removal) };
  out.state.marks = disputed(out.state.marks, recordRemoval, joined(open, mine, edit.seen));
  out.verdict = "held";
}

/** Of a count that is added again: an add says what there is, and no difference to what others have said. */
function larger(central: Raw | undefined, to: Raw | undefined): { value: Raw | undefined } | undefined {
  const order = compare(to, central);
  if (central === undefined || (order !== undefined && order > 0)) {
    return { value: to };
  }
  return to === undefined || order !== undefined ? { value: central } : undefined;
}

/** Is central + (to - from), in exact decimals; no value counts as 0. */
function sum(
  central: Raw | undefined,
  from: Raw | undefined,
  to: Raw | undefined,
): { value: Raw | undefined } | undefined {
  let total: decimals.Decimal = { digits: 0n, scale: 0 };
  for (const [raw, sign] of [
    [central, 1],
    [to, 1],
    [from, -1],
  ] as const) {
    if (raw === undefined) {
      continue;
    }
    const part = decimals.decimal(raw);
    if (!part) {
      return undefined;
    }
    total = decimals.add(total, sign < 0 ? decimals.negated(part) : part);
  }
  if (to === undefined && total.digits === 0n) {
    return { value: undefined };
  }
  try {
    return { value: number(decimals.text(total)) };
  } catch {
    return undefined; // more digits than a number may have
  }
}

/** Is central with what the edit added to the list and without what it took from it. */
function union(central: Raw | undefined, from: Raw | undefined, to: Raw | undefined): { value: Raw } | undefined {
  const was = membersOf(from);
  const is = membersOf(to);
  const have = membersOf(central);
  if (!was || !is || !have || to === undefined) {
    return undefined;
  }
  if (central === from) {
    return { value: to };
  }
  const result = [
    ...have.filter((one) => !was.includes(one) || is.includes(one)),
    ...is.filter((one) => !was.includes(one)),
  ].sort(byBytes);
  return {
    value: `[${result.filter((one, n) => n === 0 || one !== result[n - 1]).join(",")}]`,
  };
}

/** The canonical texts of a list's members; no value is an empty list. */
function membersOf(list: Raw | undefined): string[] | undefined {
  if (list === undefined) {
    return [];
  }
  const read = parse(list);
  return Array.isArray(read) ? read.map(write) : undefined;
}

/** Orders two numbers, or two texts; nothing of anything else. */
export function compare(a: Raw | undefined, b: Raw | undefined): number | undefined {
  if (a === undefined || b === undefined) {
    return undefined;
  }
  if (a[0] === '"' && b[0] === '"') {
    return byBytes(a, b);
  }
  const x = decimals.decimal(a);
  const y = decimals.decimal(b);
  return x && y ? decimals.compare(x, y) : undefined;
}

function textOf(raw: Raw | undefined): string | undefined {
  if (raw === undefined) {
    return "";
  }
  const read = parse(raw);
  return typeof read === "string" ? read : undefined;
}

const encoder = new TextEncoder();

/** Whether a text is what is left of another once something that was put into it is taken out. */
function within(text: string, other: string): boolean {
  const wanted = encoder.encode(text);
  let at = 0;
  for (const byte of encoder.encode(other)) {
    if (at < wanted.length && byte === wanted[at]) {
      at++;
    }
  }
  return at === wanted.length;
}
