// What happens when somebody saves: one transaction puts a change into the outbox and its effect into the view.
import { cover, periodsOf, type Coverage } from "../core/coverage.ts";
import { covers, type Collection, type Person, type Role } from "../core/definition.ts";
import { parse, write, ValueError, type Value } from "../core/json.ts";
import { merge, recordRemoval, Refusal, type Decision, type Edit, type Kind } from "../core/merge.ts";
import { join, partsOf } from "../core/parts.ts";
import type { Reason } from "../core/schema.ts";
import * as stamps from "../core/stamp.ts";
import {
  apply,
  blank,
  edited,
  readDelta,
  readMarks,
  writeFields,
  type Delta,
  type Fields,
  type Raw,
  type Source,
} from "../core/state.ts";
import { DeviceError, InvalidError } from "./errors.ts";
import { Taker } from "./takeback.ts";
import { fieldsOf, listOf, stored, underOf, type DeviceRecord, type Entry, type Stored } from "./shelf.ts";

/** Values by field, as people set them; null clears one. */
export type Values = { [field: string]: Value };

/** A change that central has not accepted yet. */
export interface Queued {
  number: number;
  collection: string;
  record: string;
  label: string;
  kind: Kind;
  base: number;
  fields: Delta;
  editedAt: string;
  author: string;
  /** It left at least once, but no answer has come. */
  sent: boolean;
  /** Refused or waiting, and why. */
  answer?: "refused" | "waiting";
  reasons: Reason[];
}

/** What somebody wants to save of one record. */
interface Wish {
  kind: Kind;
  set: Fields;
  cleared: string[];
  saw?: DeviceRecord | undefined;
  as?: string | undefined;
  /** It marks the record complete, or opens it again. */
  marks?: boolean;
}

const firstYear = 2020;

export class Desk extends Taker {
  /** The fields that are not asked for of a record, by what stands in others: as of one that is being typed. */
  unasked(collection: string, values: Values): string[] {
    return [...this.collection(collection).unasked(wished(collection, values).set)];
  }

  /** Adds a record. It is on the disk when this returns. */
  add(collection: string, values: Values, as?: string): DeviceRecord {
    return this.save(collection, as ?? this.newID(), {
      kind: "add",
      ...wished(collection, values),
      as,
    });
  }

  /** Edits some fields. With saw, what others have done since is kept or not by the rules of the collection. */
  edit(collection: string, id: string, values: Values, saw?: DeviceRecord): DeviceRecord {
    this.keepWhatIsLeftOut(collection, id);
    return this.save(collection, id, {
      kind: "edit",
      ...wished(collection, values),
      saw,
    });
  }

  /** Marks a record complete in the name of whoever is signed in: what its definition requires is checked now. */
  complete(collection: string, id: string, saw?: DeviceRecord): DeviceRecord {
    return this.setMark(collection, id, write(this.fact("worker")), saw);
  }

  /** Takes the mark away that a record is complete, by whoever may. */
  reopen(collection: string, id: string, saw?: DeviceRecord): DeviceRecord {
    return this.setMark(collection, id, undefined, saw);
  }

  private setMark(collection: string, id: string, by: Raw | undefined, saw?: DeviceRecord): DeviceRecord {
    const name = this.collection(collection).coverage?.complete;
    if (!name) {
      throw new DeviceError("not-allowed", `records of ${collection} are not marked complete`);
    }
    const set: Fields = by === undefined ? {} : { [name]: by };
    return this.save(collection, id, { kind: "edit", set, cleared: by === undefined ? [name] : [], saw, marks: true });
  }

  /**
   * Which places have reported for which periods, against what is expected, as far as this device holds them and whoever is
   * signed in covers them; nothing where from or until is no period. Both may be empty, for the last ones. Today is a date.
   */
  coverage(collection: string, ask: { from?: string; until?: string; today: string }): Coverage | undefined {
    const c = this.collection(collection);
    const of = c.coverage && this.collection(c.coverage.of);
    const today = Date.parse(ask.today);
    const periods = of && periodsOf(c, ask.from ?? "", ask.until ?? "", today);
    if (!of || !periods) {
      return undefined;
    }
    const { person } = this;
    const places = this.db
      .all<Stored>(`SELECT * FROM records WHERE collection = ? AND NOT removed`, [of.name])
      .map(({ id, fields, computed }) => ({ id, own: fieldsOf(fields), computed }))
      .map(({ id, own, computed }) => ({
        id,
        territories: of.territoriesOf(own),
        fields: Object.assign(own, fieldsOf(computed)),
      }))
      .filter(({ territories }) => covers(person.territories, territories));
    const entries = this.db
      .all<Stored>(
        `SELECT * FROM records WHERE collection = ? AND NOT removed AND fields->>'$.${c.coverage!.period}' BETWEEN ? AND ?`,
        [c.name, String(periods[0]), String(periods.at(-1))],
      )
      .map((row) => ({
        id: row.id,
        fields: fieldsOf(row.fields),
        marks: row.pending === 0 && row.marks !== "" ? readMarks(row.marks) : undefined,
        author: row.author,
        edited: row.edited_at,
      }));
    return cover(c, of, periods, today, places, entries);
  }

  /** Removes a record, and the children that go with it. */
  remove(collection: string, id: string, saw?: DeviceRecord): void {
    this.within(() => {
      const c = this.collection(collection);
      this.maySave(c);
      this.removeTogether(c, id, { kind: "remove", set: {}, cleared: [], saw });
    });
  }

  /** Saves all that work does, or nothing of it; when central refuses one of the changes, it takes none of them. */
  group<T>(work: () => T): T {
    return this.within(() => {
      const last = this.lastNumber();
      const done = work();
      this.bind(last);
      return done;
    });
  }

  /** Gives a disputed field the value that it is to have. */
  settle(collection: string, id: string, field: string, value: Value): DeviceRecord {
    return this.within(() => {
      const c = this.collection(collection);
      this.maySave(c);
      let row = this.present(collection, id);
      const shown = this.show(c, row);
      if (!shown.disputes[field]) {
        throw new DeviceError("no-dispute", `nobody disputes ${field} of ${shown.label}; it may have been settled`);
      }
      if (field === recordRemoval && value === true) {
        row = this.removeTogether(c, id, {
          kind: "remove",
          set: {},
          cleared: [],
        });
        return this.show(c, row);
      }
      if (field === recordRemoval && value !== false) {
        throw invalid(collection, field, "is true, and the record goes, or false");
      }
      const before = fieldsOf(row.fields);
      // An edit of nothing by whoever knows of the removal says that the record stays.
      const delta =
        field === recordRemoval ? blank<never>() : setAt(before, field, value === null ? undefined : write(value));
      const after = apply(before, delta);
      this.allow(c, "edit", before, after);
      this.mustFit(c, before, after);
      row = this.enqueue(row, "edit", delta, after);
      return this.show(c, row);
    });
  }

  /** What central has not accepted yet, in the order in which it will be sent. */
  review(): Queued[] {
    this.mustBeSomebody();
    const queue = this.db.all<Entry>(
      `SELECT * FROM outbox WHERE author = ? AND kept IS NULL ORDER BY coalesce(place, number)`,
      [this.fact("worker")],
    );
    return queue.map((q) => {
      const c = this.collection(q.collection);
      const row = this.load(q.collection, q.record);
      const answer = q.state === "refused" || q.state === "waiting" ? { answer: q.state } : {};
      return {
        number: q.number,
        collection: q.collection,
        record: q.record,
        label: row ? this.show(c, row).label : "",
        kind: q.kind,
        base: q.base,
        fields: readDelta(parse(q.fields)),
        editedAt: q.edited_at,
        author: q.author,
        sent: q.state === "sent",
        ...answer,
        reasons: q.reasons === null ? [] : (JSON.parse(q.reasons) as Reason[]),
      };
    });
  }

  private save(collection: string, id: string, wish: Wish): DeviceRecord {
    return this.within(() => {
      const c = this.collection(collection);
      this.maySave(c);
      const [row, decisions] = this.saveIn(c, id, wish);
      this.finish();
      return this.show(c, this.load(collection, row.id) ?? row, decisions);
    });
  }

  /** Whether anybody may change the collection on this device now. */
  protected maySave(c: Collection): void {
    if (this.fact("token") === "") {
      throw new DeviceError("not-enrolled", "this store is not enrolled; enrol it with an enrolment code");
    }
    this.mustBeSomebody();
    if (new Date(this.now()).getUTCFullYear() < firstYear) {
      throw new DeviceError("clock", "this device's clock is wrong; set it, and save again");
    }
    if (this.fact("role") === "reader") {
      throw new DeviceError("not-allowed", "the role reader may not change records");
    }
    const { asOf, age } = this.ageOf(c);
    if (age === "too old") {
      throw new DeviceError(
        "too-old",
        `${c.title} are as of ${asOf}, and ${c.maxAge?.block} is allowed; run an exchange, and save again`,
      );
    }
    if (!c.pushes) {
      throw new DeviceError("not-allowed", `${c.title} only come down from central and are changed there`);
    }
  }

  private saveIn(c: Collection, id: string, wish: Wish): [Stored, Decision[]] {
    const { kind } = wish;
    let row = stored(c.name, id);
    let before: Fields = blank();
    let gone: Fields = blank();
    if (kind === "add") {
      for (const field of c.fields) {
        const start = c.startOf(field.name);
        if (start !== undefined && wish.set[field.name] === undefined && !wish.cleared.includes(field.name)) {
          wish.set[field.name] = start;
        }
      }
      const one = c.oneID(wish.set);
      const there = one === undefined ? undefined : this.load(c.name, one);
      if (one !== undefined) {
        if (there && !there.removed) {
          throw this.thereIs(c, there);
        }
        row = there ?? stored(c.name, one);
        gone = fieldsOf(row.fields);
      } else if (wish.as !== undefined && this.load(c.name, id)) {
        throw new DeviceError("taken", `there is a record with the id ${id} in ${c.name} already`);
      }
    } else {
      row = this.present(c.name, id);
      before = fieldsOf(row.fields);
    }
    row = { ...row, local: takeLocal(row, c, wish) };
    if (wish.saw && wish.saw.revision < row.revision && kind !== "add") {
      return this.saveOnOlder(c, row, wish, wish.saw);
    }
    const delta = deltaOf(before, wish);
    const after = apply(before, delta);
    for (const [name, value] of Object.entries(gone)) {
      delta[name] ??= edited(value, undefined); // of a record that was removed, nothing comes back by itself
    }
    this.allow(c, kind, before, after);
    this.mustBeOpen(c, kind, before, after);
    if (kind === "remove") {
      this.removeChildren(c, id);
    } else {
      this.mustFit(c, before, Object.assign(blank(after), fieldsOf(row.local)));
      this.keyIsFree(c, row.id, delta);
      this.mustBeHere(c, delta);
    }
    if (kind !== "edit" || Object.keys(delta).length > 0) {
      return this.enqueueTelling(row, kind, delta, after);
    }
    this.note(c.name, id, false);
    this.put(row); // local values only
    return [row, []];
  }

  /** Saves what somebody wants of a record that they saw in an earlier state than it has here now. */
  private saveOnOlder(c: Collection, row: Stored, wish: Wish, saw: DeviceRecord): [Stored, Decision[]] {
    const under = underOf(row);
    const before = fieldsOf(row.fields);
    const shown: Fields = blank();
    for (const [name, value] of Object.entries(saw.fields)) {
      shown[name] = write(value);
    }
    const delta = deltaOf(shown, wish);
    if (wish.kind === "edit" && Object.keys(delta).length === 0) {
      this.put(row);
      return [row, []];
    }
    this.mustBeOpen(c, wish.kind, shown, apply(shown, delta));
    const changes = this.unsentOf(row);
    const { state } = this.overlay(c, under, changes);
    const edit: Edit = {
      kind: wish.kind,
      base: saw.revision,
      fields: delta,
      stamp: stamps.correct({ by: 0, error: 0 }, stamps.next("", this.now() + this.offset.by), Infinity),
      source: {
        incarnation: this.fact("incarnation"),
        number: this.lastNumber() + 1,
      },
      seen: JSON.parse(this.seenOf(row)) as Source[],
    };
    let out;
    try {
      out = merge(c.rules, state, edit);
    } catch (error) {
      if (error instanceof Refusal) {
        throw new InvalidError(c.name, [{ code: error.code, message: error.message }]);
      }
      throw error;
    }
    this.allow(c, wish.kind, before, out.state.fields);
    if (out.state.removed) {
      this.removeChildren(c, row.id);
    } else {
      this.mustFit(c, before, out.state.fields);
      this.mustBeHere(c, delta);
    }
    const now = this.putChange(row, saw.revision, wish.kind, delta, out.state.fields);
    // The view is what the rules make of it, which a put on its own does not know.
    this.rebuild(now, under);
    return [this.load(c.name, row.id) ?? now, out.decisions];
  }

  /** Puts a change at the end of the outbox; an edit of what central has refused mends that. */
  private enqueueTelling(row: Stored, kind: Kind, delta: Delta, after: Fields): [Stored, Decision[]] {
    if (kind !== "edit" || row.pending === 0 || !this.mendable(row)) {
      return [this.putChange(row, row.revision, kind, delta, after), []];
    }
    return this.mendTogether(row, (one) => {
      const [ready, mended, decisions] = this.mend(one, after);
      return [this.putMended(ready, mended), decisions];
    });
  }

  private enqueue(row: Stored, kind: Kind, delta: Delta, after: Fields): Stored {
    return this.enqueueTelling(row, kind, delta, after)[0];
  }

  private removeTogether(c: Collection, id: string, wish: Wish): Stored {
    const last = this.lastNumber();
    const [row] = this.saveIn(c, id, wish);
    try {
      this.bind(last);
    } catch (error) {
      if (!(error instanceof DeviceError && error.code === "group-size")) {
        throw error;
      }
    }
    return row;
  }

  /** Does to the children of a record that is removed what their definitions say. */
  private removeChildren(c: Collection, id: string): void {
    for (const child of this.childrenOf(c.name)) {
      if (!child.parent || child.parent.removal === "keep") {
        continue;
      }
      const ids = this.db.all<{ id: string }>(
        `SELECT id FROM records WHERE collection = '${child.name}' AND fields->>'$.${child.parent.field}' = ?
           AND NOT removed ORDER BY id`,
        [id],
      );
      if (ids.length > 0 && child.parent.removal === "restrict") {
        throw new DeviceError(
          "has-children",
          `other records still belong to this one: ${ids.length} of ${child.title}; remove them first, or move them to another`,
        );
      }
      for (const one of ids) {
        this.saveIn(child, one.id, { kind: "remove", set: {}, cleared: [] });
      }
    }
  }

  /** Asks the collection's own rules, so that the worker hears at once what central would refuse. */
  private allow(c: Collection, kind: Kind, before: Fields, after: Fields): void {
    const why =
      kind === "add"
        ? c.refuses("add", this.person, undefined, after)
        : c.refuses(kind, this.person, before, kind === "remove" ? undefined : after);
    if (why !== undefined) {
      throw new DeviceError("not-allowed", why);
    }
  }

  /** The worker of the device, as central last said. */
  private get person(): Person {
    return {
      name: this.fact("worker"),
      role: this.fact("role") as Role,
      territories: listOf(this.fact("territories")),
    };
  }

  private mustBeOpen(c: Collection, kind: Kind, before: Fields, after: Fields): void {
    const closed = c.closed(kind, before, after);
    if (closed.length > 0) {
      throw new InvalidError(c.name, closed);
    }
  }

  private mustFit(c: Collection, before: Fields, after: Fields): void {
    const wrong = c.newlyWrong(before, after);
    if (wrong.length > 0) {
      throw new InvalidError(c.name, wrong);
    }
  }

  /** Warns of a key that another record has here, where keys are unique. Central has the last word. */
  private keyIsFree(c: Collection, id: string, delta: Delta): void {
    const one = c.oneText(apply(blank(), delta));
    if (one === "") {
      return;
    }
    const text = c.oneFor.map((name) => `(fields->>'$.${name}')`).join(" || ' ' || ");
    const holder = this.one<Stored>(
      `SELECT * FROM records WHERE collection = ? AND NOT removed AND id <> ? AND ${text} = ? LIMIT 1`,
      [c.name, id, one],
    );
    if (holder) {
      throw this.thereIs(c, holder);
    }
  }

  private thereIs(c: Collection, row: Stored): InvalidError {
    const { label } = this.show(c, row);
    const then = c.coverage ? "is for this place and period already" : "has it already; take another";
    return new InvalidError(c.name, [
      { field: c.oneFor.at(-1) ?? "", code: "key-taken", message: `${label} (${row.id}) ${then}` },
    ]);
  }

  /** Checks what an edit newly refers to: a record that is not here can only be meant where all there are are here. */
  private mustBeHere(c: Collection, delta: Delta): void {
    for (const field of c.fields) {
      const to = delta[field.name]?.to;
      if (field.reference === undefined || to === undefined || to[0] !== '"') {
        continue;
      }
      const target = this.definitions().get(field.reference);
      const row = target && this.load(field.reference, JSON.parse(to) as string);
      if (row?.removed) {
        throw invalid(c.name, field.name, `refers to a record of ${field.reference} that was removed`);
      }
      if (target && !row && this.holdsAll(target)) {
        throw invalid(c.name, field.name, `refers to ${to}, but there is no such record in ${field.reference}`);
      }
    }
  }

  private holdsAll(c: Collection): boolean {
    const row = this.one<{ whole: number }>(
      `SELECT pulled_at IS NOT NULL AND cursor >= head AND NOT loading AS whole FROM collections WHERE name = ?`,
      [c.name],
    );
    return !c.territorial && !c.readable && c.loads && row?.whole === 1;
  }
}

function invalid(collection: string, field: string, message: string): InvalidError {
  return new InvalidError(collection, [{ field, code: "invalid-value", message }]);
}

/** Values in canonical form, and the fields that are cleared. */
function wished(collection: string, values: Values): { set: Fields; cleared: string[] } {
  const set: Fields = blank();
  const cleared: string[] = [];
  for (const [name, value] of Object.entries(values)) {
    if (value === null || value === undefined) {
      cleared.push(name);
      continue;
    }
    try {
      set[name] = write(value);
    } catch (error) {
      if (error instanceof ValueError) {
        throw invalid(collection, name, error.message);
      }
      throw error;
    }
  }
  return { set, cleared };
}

/** Takes the values that stay on this device out of what somebody wishes, and refuses those that nobody sets. */
function takeLocal(row: Stored, c: Collection, wish: Wish): string {
  const local = fieldsOf(row.local);
  const wrong: Reason[] = [];
  for (const name of [...Object.keys(wish.set), ...wish.cleared]) {
    const value: Raw | undefined = wish.set[name];
    const why = wish.marks && c.field(name)?.marks ? undefined : c.unsettable(name);
    if (why !== undefined) {
      if (value !== undefined) {
        wrong.push({ field: name, code: "read-only", message: why });
      }
      wish.cleared = wish.cleared.filter((one) => one !== name); // an empty input of a form
    } else if (c.field(name)?.local) {
      delete local[name];
      if (value !== undefined) {
        local[name] = value;
        delete wish.set[name];
      }
      wish.cleared = wish.cleared.filter((one) => one !== name);
    }
  }
  if (wrong.length > 0) {
    throw new InvalidError(c.name, wrong);
  }
  return writeFields(local);
}

/** What differs from before once some fields are set and some cleared. */
function deltaOf(before: Fields, wish: Wish): Delta {
  const delta: Delta = blank();
  for (const [name, to] of Object.entries(wish.set)) {
    if (before[name] !== to) {
      delta[name] = edited(before[name], to);
    }
  }
  for (const name of wish.cleared) {
    if (before[name] !== undefined) {
      delta[name] = edited(before[name], undefined);
    }
  }
  return delta;
}

/** The delta that gives the value at a path, and leaves everything else as it is. */
function setAt(fields: Fields, path: string, value: Raw | undefined): Delta {
  const at = path.indexOf("/");
  if (at < 0) {
    return blank({ [path]: edited(fields[path], value) });
  }
  const name = path.slice(0, at);
  const rest = path.slice(at + 1);
  const parts = blank(partsOf(fields[name]) ?? {});
  for (const other of Object.keys(parts)) {
    if (other === rest || other.startsWith(`${rest}/`)) {
      delete parts[other];
    }
  }
  if (value !== undefined) {
    parts[rest] = value;
  }
  return blank({ [name]: edited(fields[name], join(parts)) });
}
