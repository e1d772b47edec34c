// What a device keeps: records as central said last, with what is unsent laid over them.
import { Collection, Series, type Attention, type Brood } from "../core/definition.ts";
import { isArray, parse, write, type Value } from "../core/json.ts";
import {
  merge,
  recordRemoval,
  Refusal,
  type Decision,
  type Edit,
  type Kind,
  type Rule,
  type Rules,
} from "../core/merge.ts";
import * as stamps from "../core/stamp.ts";
import {
  apply,
  blank,
  has,
  noMarks,
  noRecord,
  readDelta,
  readFields,
  readMarks,
  writeFields,
  writeMarks,
  type Delta,
  type Dispute,
  type Fields,
  type Source,
  type State,
} from "../core/state.ts";
import { DeviceError } from "./errors.ts";
import { File } from "./file.ts";

/** A row of the table records. */
export interface Stored {
  collection: string;
  id: string;
  revision: number;
  removed: number;
  fields: string;
  computed: string;
  local: string;
  marks: string;
  under_removed: number;
  under_fields: string | null;
  /** Who edited it last as central has it, while an unsent edit is shown in its place: author, device, time, as JSON. */
  under_by: string;
  pending: number;
  withdrawn: number;
  /** Set when central was restored and has not said since that it has the record: the generation of its last word. */
  lost: string;
  author: string;
  device: string;
  edited_at: string;
  received_at: string;
  /** When central last said that it has the record so, and when somebody last looked at it, where it was looked up. */
  confirmed_at: string | null;
  used_at: string | null;
}

/** A row of the table outbox. */
export interface Entry {
  number: number;
  collection: string;
  record: string;
  kind: Kind;
  base: number;
  fields: string;
  stamp: string;
  edited_at: string;
  author: string;
  /** The incarnation that numbered it, and the generation that base is meant in, where these are earlier ones. */
  origin: string;
  generation: string;
  grp: string;
  grp_of: number;
  mended: number;
  /** Unsent changes under earlier incarnations that its author saw. */
  seen: string;
  folds: string;
  /** Of what it folds, in that order. */
  digests: string;
  /** What it was folded from, as that was saved. */
  parts: string;
  place: number | null;
  boot: string;
  line: number;
  /** By how much central's date of it may be off, in milliseconds, when it is offered again. */
  unsure: number;
  state: "new" | "sent" | "refused" | "waiting";
  batch: string | null;
  reasons: string | null;
  /** All of it, sealed for its author, who is not signed in. */
  kept: string | null;
  /** The change, sealed for central. */
  sealed: string | null;
  /** Why central has refused it or lets it wait, sealed for its author. */
  told: string | null;
}

/** A record as this device shows it: what central last said, with the unsent changes laid over it. */
export interface DeviceRecord {
  collection: string;
  id: string;
  label: string;
  /** Values by field; a number of which a double does not hold all digits is an Exact. */
  fields: { [name: string]: Value };
  /** Central's; 0 when central has none yet. */
  revision: number;
  /** Changes that central has not accepted yet, and of these the refused and waiting ones. */
  pending: number;
  refused: number;
  editedAt: string;
  author: string;
  device: string;
  disputes: { [field: string]: Dispute };
  /** What became of a save whose author had seen an earlier state. */
  decisions: Decision[];
  /** What stands in for numbers that central has not given yet. */
  provisional: { [field: string]: string };
  /** Central was restored from a backup, and has not said since that it has the record. */
  lost: boolean;
  /** What it wants attention for today, by the conditions of its definition. */
  attention?: Attention;
}

export function stored(collection: string, id: string): Stored {
  return {
    collection,
    id,
    revision: 0,
    removed: 0,
    fields: "{}",
    computed: "{}",
    local: "{}",
    marks: "",
    under_removed: 0,
    under_fields: null,
    under_by: "",
    pending: 0,
    withdrawn: 0,
    lost: "",
    author: "",
    device: "",
    edited_at: "",
    received_at: "",
    confirmed_at: null,
    used_at: null,
  };
}

export function fieldsOf(text: string): Fields {
  return readFields(parse(text));
}

/** What central last said of a record. */
export function underOf(row: Stored): State {
  if (row.revision === 0) {
    return noRecord;
  }
  const under = row.under_fields !== null;
  return {
    revision: row.revision,
    removed: Boolean(under ? row.under_removed : row.removed),
    fields: fieldsOf(row.under_fields ?? row.fields),
    marks: row.marks === "" ? noMarks : readMarks(row.marks),
  };
}

/** Lays one unsent change over a state, by the same merge as central's. What central would refuse is shown all the same. */
export function lay(rules: Rules, state: State, edit: Edit): { state: State; decisions: Decision[] } {
  const attempt = (on: State) => {
    try {
      return merge(rules, on, edit);
    } catch (error) {
      if (error instanceof Refusal) {
        return undefined;
      }
      throw error;
    }
  };
  let out = attempt(state);
  if (!out && state.removed && edit.kind === "edit") {
    // Its author has removed the record since. Sent again it brings the record back, with what others have said of it.
    state = { ...state, removed: false };
    out = attempt(state);
  }
  if (!out) {
    const fields = apply(state.fields, edit.fields);
    return {
      state: {
        ...state,
        revision: state.revision + 1,
        removed: edit.kind === "remove",
        fields,
      },
      decisions: [],
    };
  }
  if (out.verdict === "held") {
    // Until central has answered, the worker sees what they wrote.
    const shown: Delta = blank();
    for (const decision of out.decisions) {
      const name = decision.field?.split("/")[0];
      if (decision.rule === "ask" && name && edit.fields[name]) {
        shown[name] = edit.fields[name];
      }
    }
    out.state.fields = apply(out.state.fields, shown);
    out.state.removed = edit.kind === "remove";
  }
  return { state: out.state, decisions: out.decisions };
}

/** Stands for the run of the machine in which a change was stamped, where central once dated it: line is that date. */
export const answeredBefore = "answered before";

/** A change of a clock by less is the system that keeps its clock right. */
const leastTurn = 50;

export class Shelf extends File {
  private readonly compiled = new Map<string, { doc: string; collection: Collection }>();
  /** Records whose computed values must be worked out before the transaction ends, by collection. */
  private uncomputed = new Map<string, Set<string>>();

  /** The definition that the device has of a collection. */
  collection(name: string): Collection {
    const row = this.one<{ doc: string; rules: string }>(`SELECT doc, rules FROM collections WHERE name = ?`, [name]);
    if (!row) {
      throw new DeviceError("no-collection", `no such collection on this device: ${name}`);
    }
    const known = this.compiled.get(name);
    if (known?.doc === row.doc) {
      return known.collection;
    }
    const rules = JSON.parse(row.rules) as { [path: string]: Rule };
    const collection = new Collection(parse(row.doc), rules);
    this.compiled.set(name, { doc: row.doc, collection });
    return collection;
  }

  /** All definitions by name. */
  protected definitions(): Map<string, Collection> {
    const names = this.db.all<{ name: string }>(`SELECT name FROM collections ORDER BY name`);
    return new Map(names.map(({ name }) => [name, this.collection(name)]));
  }

  /** The definition as central has sent it. */
  definition(name: string): string {
    this.collection(name);
    return this.one<{ doc: string }>(`SELECT doc FROM collections WHERE name = ?`, [name])?.doc ?? "";
  }

  protected childrenOf(name: string): Collection[] {
    return [...this.definitions().values()].filter((c) => c.parent?.collection === name);
  }

  protected load(collection: string, id: string): Stored | undefined {
    return this.one<Stored>(`SELECT * FROM records WHERE collection = ? AND id = ?`, [collection, id]);
  }

  override backup(path: string): void {
    this.mustBeSomebody();
    super.backup(path);
  }

  /** Throws where nobody is signed in: nothing is shown or saved then. What is unsent still goes to central. */
  mustBeSomebody(): void {
    if (this.fact("token") !== "" && this.fact("worker") === "") {
      throw new DeviceError("signed-out", "nobody is signed in; sign in with a PIN or password, or join with a code");
    }
  }

  protected present(collection: string, id: string): Stored {
    const row = this.load(collection, id);
    if (!row || row.removed) {
      throw new DeviceError("no-record", `no such record on this device: ${id} in ${collection}`);
    }
    return row;
  }

  protected show(c: Collection, row: Stored, decisions: Decision[] = []): DeviceRecord {
    const raw = Object.assign(fieldsOf(row.fields), fieldsOf(row.computed), fieldsOf(row.local));
    const values = blank<Value>();
    for (const [name, text] of Object.entries(raw)) {
      values[name] = parse(text);
    }
    const provisional: { [field: string]: string } = {};
    const named = blank(raw);
    for (const field of c.fields) {
      if (field.series !== undefined && raw[field.name] === undefined) {
        const mark = new Series(field.series).provisional(row.id);
        provisional[field.name] = mark;
        named[field.name] = write(mark);
      }
    }
    const refused =
      row.pending === 0
        ? 0
        : (this.one<{ n: number }>(
            `SELECT count(*) AS n FROM outbox WHERE collection = ? AND record = ? AND state IN ('refused', 'waiting')`,
            [row.collection, row.id],
          )?.n ?? 0);
    const attention = c.attends
      ? this.one<Attention>(`SELECT say, grade FROM attention WHERE collection = ? AND id = ?`, [c.name, row.id])
      : undefined;
    return {
      ...(attention && { attention }),
      collection: row.collection,
      id: row.id,
      label: c.labelOf(named),
      fields: values,
      revision: row.revision,
      pending: row.pending,
      refused,
      editedAt: row.edited_at,
      author: row.author,
      device: row.device,
      disputes: this.openDisputes(row),
      decisions,
      provisional,
      lost: row.lost !== "",
    };
  }

  /** The disputes that wait for a person: one that was settled here only waits to be sent. */
  private openDisputes(row: Stored): { [field: string]: Dispute } {
    const disputes = row.marks.includes('"disputes"') ? readMarks(row.marks).disputes : {};
    const changes = row.pending > 0 && Object.keys(disputes).length > 0 ? this.unsentOf(row) : [];
    for (const [path, { opened }] of Object.entries(disputes)) {
      const [field = ""] = path.split("/");
      const settles = (q: Entry) =>
        path === recordRemoval ? q.kind === "remove" || q.fields === "{}" : field in readDelta(parse(q.fields));
      if (changes.some((q) => q.state !== "refused" && q.base >= opened && settles(q))) {
        delete disputes[path];
      }
    }
    return disputes;
  }

  /** Writes a row, and notes what follows from it. */
  protected put(row: Stored): void {
    const before = this.load(row.collection, row.id);
    this.db.run(
      `INSERT INTO records (collection, id, revision, removed, fields, computed, local, marks, under_removed, under_fields,
         under_by, pending, withdrawn, lost, author, device, edited_at, received_at)
       VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
       ON CONFLICT (collection, id) DO UPDATE SET revision = excluded.revision, removed = excluded.removed,
         fields = excluded.fields, local = excluded.local, marks = excluded.marks, under_removed = excluded.under_removed,
         under_fields = excluded.under_fields, under_by = excluded.under_by, pending = excluded.pending, withdrawn = excluded.withdrawn, lost = excluded.lost,
         author = excluded.author, device = excluded.device, edited_at = excluded.edited_at,
         received_at = excluded.received_at`,
      [
        row.collection,
        row.id,
        row.revision,
        row.removed,
        row.fields,
        row.computed,
        row.local,
        row.marks,
        row.under_removed,
        row.under_fields,
        row.under_by,
        row.pending,
        row.withdrawn,
        row.lost,
        row.author,
        row.device,
        row.edited_at,
        row.received_at,
      ],
    );
    this.moved(row.collection, row.id, before, row);
  }

  protected drop(row: Stored): void {
    this.db.run(`DELETE FROM records WHERE collection = ? AND id = ?`, [row.collection, row.id]);
    this.db.run(`DELETE FROM attention WHERE collection = ? AND id = ?`, [row.collection, row.id]);
    this.moved(row.collection, row.id, row, undefined);
    this.note(row.collection, row.id, true);
  }

  /** Notes whose computed values must be worked out anew, since a record is another now. */
  private moved(collection: string, id: string, before: Stored | undefined, after: Stored | undefined): void {
    if (before && after && before.fields === after.fields && before.removed === after.removed) {
      return;
    }
    if (after) {
      this.mark(collection, id);
    }
    this.markParents(collection, before, after);
  }

  /** Notes that the computed values of a record must be worked out anew. */
  protected mark(collection: string, id: string): void {
    const ids = this.uncomputed.get(collection) ?? new Set();
    this.uncomputed.set(collection, ids.add(id));
  }

  private markParents(collection: string, ...rows: (Stored | undefined)[]): void {
    const parent = this.collection(collection).parent;
    for (const row of parent ? rows : []) {
      const above = row && fieldsOf(row.fields)[parent?.field ?? ""];
      if (parent && above !== undefined && above[0] === '"') {
        this.mark(parent.collection, JSON.parse(above) as string);
      }
    }
  }

  protected override forget(): void {
    this.uncomputed = new Map();
  }

  /** Works out the computed values of all records that were noted, children before their parents. */
  protected override finish(): void {
    while (this.uncomputed.size > 0) {
      const all = this.definitions();
      const depth = (name: string): number => {
        const above = all.get(name)?.parent?.collection;
        return above === undefined || above === name ? 0 : 1 + depth(above);
      };
      const [name = ""] = [...this.uncomputed.keys()].sort((a, b) => depth(b) - depth(a));
      const ids = this.uncomputed.get(name) ?? new Set();
      this.uncomputed.delete(name);
      const c = all.get(name);
      for (const id of c?.computes || c?.attends ? ids : []) {
        this.compute(c as Collection, id);
        this.attend(c as Collection, id);
      }
    }
  }

  /** Notes whether a record wants attention today. */
  protected attend(c: Collection, id: string): void {
    const row = c.attends ? this.load(c.name, id) : undefined;
    if (!row) {
      return;
    }
    const now = row.removed
      ? undefined
      : c.attention(Object.assign(fieldsOf(row.fields), fieldsOf(row.computed)), this.today());
    const was = this.one<Attention>(`SELECT say, grade FROM attention WHERE collection = ? AND id = ?`, [c.name, id]);
    if (now?.say === was?.say && now?.grade === was?.grade) {
      return;
    }
    this.note(c.name, id, Boolean(row.removed));
    this.db.run(`DELETE FROM attention WHERE collection = ? AND id = ?`, [c.name, id]);
    if (now) {
      this.db.run(`INSERT INTO attention (collection, id, grade, say) VALUES (?, ?, ?, ?)`, [
        c.name,
        id,
        now.grade,
        now.say,
      ]);
    }
  }

  /** The date where the device is. */
  private today(): string {
    const at = new Date(this.now());
    const two = (n: number) => String(n).padStart(2, "0");
    return `${String(at.getFullYear()).padStart(4, "0")}-${two(at.getMonth() + 1)}-${two(at.getDate())}`;
  }

  /** Looks at all records anew once it is another day than when they were looked at last. */
  protected watchTheDay(): void {
    const today = this.today();
    if (this.fact("day") === today) {
      return;
    }
    this.within(() => {
      for (const c of this.definitions().values()) {
        if (c.attends) {
          for (const { id } of this.db.all<{ id: string }>(`SELECT id FROM records WHERE collection = ?`, [c.name])) {
            this.attend(c, id);
          }
        } else {
          this.db.run(`DELETE FROM attention WHERE collection = ?`, [c.name]);
        }
      }
      this.setFact("day", today);
    });
  }

  private compute(c: Collection, id: string): void {
    const row = c.computes ? this.load(c.name, id) : undefined;
    if (!row) {
      return;
    }
    const broods: { [name: string]: Brood } = {};
    for (const child of this.childrenOf(c.name)) {
      const rows = this.db.all<Stored>(
        `SELECT * FROM records WHERE collection = '${child.name}' AND fields->>'$.${child.parent?.field}' = ?
           AND NOT removed ORDER BY id`,
        [id],
      );
      broods[child.name] = {
        collection: child,
        records: rows.map((one) => Object.assign(fieldsOf(one.fields), fieldsOf(one.computed))),
      };
    }
    const computed = writeFields(c.compute(fieldsOf(row.fields), broods));
    if (computed === row.computed) {
      return;
    }
    this.db.run(`UPDATE records SET computed = ? WHERE collection = ? AND id = ?`, [computed, c.name, id]);
    this.note(c.name, id, Boolean(row.removed));
    this.markParents(c.name, row);
  }

  protected unsentOf(row: Stored): Entry[] {
    return this.db.all<Entry>(`SELECT * FROM outbox WHERE collection = ? AND record = ? ORDER BY number`, [
      row.collection,
      row.id,
    ]);
  }

  /** By how much the device's clock was turned forward since a change was stamped, in milliseconds, as far as it shows. */
  protected turned(q: Entry): number {
    const { boot, since } = this.tick();
    if (q.boot === answeredBefore) {
      return q.line - stamps.millisOf(q.stamp) - Math.trunc(this.offset.by);
    }
    if (q.boot === "") {
      return 0;
    }
    if (q.boot !== boot) {
      return Math.min(Math.trunc(this.now() - since - stamps.millisOf(q.stamp)), 0);
    }
    const by = Math.floor(this.now()) - Math.floor(since) - q.line;
    return Math.abs(by) < leastTurn ? 0 : by;
  }

  /** An unsent change as the merge sees it. */
  protected editOf(c: Collection, q: Entry): Edit {
    const { by, error } = this.offset;
    const offset = { by: by + this.turned(q), error };
    return {
      kind: q.kind,
      base: q.base,
      fields: c.presentNames(readDelta(parse(q.fields))),
      stamp: stamps.correct(offset, q.stamp, this.now() + by),
      source: this.sourceOf(q),
      seen: JSON.parse(q.seen) as Source[],
    };
  }

  protected sourceOf(q: Entry): Source {
    return {
      incarnation: q.origin || this.fact("incarnation"),
      number: q.number,
    };
  }

  /** Lays unsent changes over what central last said, in their order. */
  protected overlay(c: Collection, under: State, changes: Entry[]): { state: State; decisions: Decision[] } {
    let state = under;
    const decisions: Decision[] = [];
    for (const q of changes) {
      if (q.boot === answeredBefore && has(under.marks, this.sourceOf(q))) {
        continue; // a restored central has it, and is only asked again: a counter would show it twice
      }
      const next = lay(c.rules, state, this.editOf(c, q));
      state = next.state;
      decisions.push(...next.decisions);
    }
    return { state, decisions };
  }

  /** Makes the view of a record anew. One of which nothing is left, or that is withdrawn, is dropped. */
  protected rebuild(row: Stored, under: State): void {
    const changes = this.unsentOf(row);
    if (row.lost !== "" && (changes.length > 0 || row.withdrawn === 0)) {
      // What central has is not known, and the view says already what the changes say.
      this.db.run(`UPDATE records SET pending = ?, withdrawn = ? WHERE collection = ? AND id = ?`, [
        changes.length,
        row.withdrawn,
        row.collection,
        row.id,
      ]);
      return;
    }
    this.layOver(row, under);
  }

  /** Does that also where what central has is not known, for who sees other unsent changes than before. */
  protected layOver(row: Stored, under: State): void {
    const changes = this.unsentOf(row);
    // What is offered again to a restored central is part of what that had.
    const unheard = row.lost === "" ? changes : changes.filter((q) => q.boot !== answeredBefore);
    if (row.lost !== "" && changes.length > 0 && unheard.length === 0 && under.revision === 0) {
      this.put({ ...row, pending: changes.length }); // it may be gone from here
      return;
    }
    const c = this.collection(row.collection);
    const keeps = c.keep !== "never";
    if (changes.length === 0 && (under.revision === 0 || under.removed || row.withdrawn > 0 || !keeps)) {
      this.drop(row);
      return;
    }
    const exists = under.revision > 0;
    const view = this.overlay(c, under, unheard).state;
    const now: Stored = {
      ...row,
      ...(changes.length === 0 ? shownBy(row) : {}),
      revision: under.revision,
      pending: changes.length,
      marks: exists ? writeMarks(under.marks) : row.marks,
      under_fields: exists && changes.length > 0 ? writeFields(under.fields) : null,
      under_removed: exists && changes.length > 0 && under.removed ? 1 : 0,
      fields: writeFields(view.fields),
      removed: view.removed ? 1 : 0,
    };
    if (now.fields !== row.fields || now.removed !== row.removed || now.pending !== row.pending) {
      this.note(row.collection, row.id, view.removed);
    }
    this.put(now);
    if (c.keep === "on demand" && exists && row.confirmed_at === null) {
      // It was made here, and counts as looked up.
      this.db.run(`UPDATE records SET confirmed_at = ?1, used_at = ?1 WHERE collection = ?2 AND id = ?3`, [
        this.time(),
        row.collection,
        row.id,
      ]);
    }
  }
}

/** Says who edited a record last, once nothing unsent is laid over it any more. */
function shownBy(row: Stored): Partial<Stored> {
  if (row.under_by === "") {
    return {};
  }
  const [author = "", device = "", edited_at = ""] = JSON.parse(row.under_by) as string[];
  return { author, device, edited_at, under_by: "" };
}

/** What is kept of who edited a record last. */
export function byOf(author: string, device: string, editedAt: string): string {
  return JSON.stringify([author, device, editedAt]);
}

/** A JSON list of texts. */
export function listOf(text: string): string[] {
  const read = text === "" ? [] : parse(text);
  return isArray(read) ? read.filter((one) => typeof one === "string") : [];
}
