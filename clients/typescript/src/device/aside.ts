// What one person on a device has not sent is sealed for the others, and goes to central with anybody's exchange all the same.
import { write } from "../core/json.ts";
import { DeviceError } from "./errors.ts";
import { Drafter, type SealedDraft } from "./drafts.ts";
import { asideInfo, changeInfo, newPair, openSealed, sealFor, type Pair } from "./seal.ts";
import { stored, underOf, type Entry, type Stored } from "./shelf.ts";

/** A row of the table people. */
export interface Person {
  name: string;
  place: number;
  role: string;
  territories: string;
  secret: string;
  keys: string;
  tries: number;
  tried_at: string | null;
}

/** All that is put aside of one change. */
interface Aside {
  entry: Entry;
  /** As its author saw it. */
  record: Stored;
}

/** A change that is ready to be put aside: cryptography is waited for, and a transaction waits for nobody. */
interface Sealed extends Aside {
  kept: string;
  /** Empty while the store has not met a central that announces a key: it goes when its author is back. */
  sealed: string | null;
}

/** A change that is ready to be taken up. */
interface Opened extends Aside {
  kept: string;
  told: string | null;
  reasons: string | null;
}

interface OpenedLocal {
  at: number;
  record: Stored;
}

/** All that was put aside for somebody, ready to be taken up. */
interface Kept {
  changes: Opened[];
  local: OpenedLocal[];
  drafts: SealedDraft[];
}

/** What it takes to let somebody be the one who is signed in. */
export interface Turn {
  name: string;
  aside: Sealed[];
  drafts: SealedDraft[];
  /** Keys of people who had none, by name. */
  pairs: Map<string, Pair[]>;
}

/** Stands for the parts of a change that was put aside: what they are, only its author can read. */
const partsAside = "aside";

const mostTurns = 20; // attempts to let somebody sign in while others save

/** Something was saved between sealing and the transaction that puts aside. */
class Meanwhile extends Error {
  override message = "others go on saving; try again";
}

export class Sealer extends Drafter {
  /** Makes somebody the one who is signed in, once what that takes has been sealed and opened. */
  protected turn(
    name: string,
    first: () => void,
    opened: () => Promise<Kept> = async () => ({ changes: [], local: [], drafts: [] }),
  ): Promise<void> {
    return this.exclusive(async () => {
      await this.sealing(
        () => name,
        (turn, kept) => {
          first();
          this.become(turn);
          this.takeUp(kept);
          this.takeUpDrafts(kept.drafts);
        },
        opened,
      );
      this.overwrite();
    });
  }

  /** Runs work in one transaction with all that it takes to make somebody the one who is signed in. */
  protected async sealing<T>(
    name: () => string,
    work: (turn: Turn, ready: T) => void,
    ready: () => Promise<T>,
    central = false,
  ): Promise<void> {
    for (let tries = 1; ; tries++) {
      const turn = await this.prepareTurn(name());
      const got = await ready();
      try {
        return this.within(() => work(turn, got), central);
      } catch (error) {
        if (!(error instanceof Meanwhile) || tries === mostTurns) {
          throw error;
        }
      }
    }
  }

  /** Seals what others than somebody have not sent; an empty name is nobody. */
  private async prepareTurn(name: string): Promise<Turn> {
    const turn: Turn = { name, aside: [], drafts: [], pairs: new Map() };
    for (const entry of this.unsealed(name)) {
      const record = this.load(entry.collection, entry.record);
      if (!record) {
        throw new DeviceError("damaged", `change ${entry.number} is of a record that is not here`);
      }
      const pairs = await this.pairsFor(turn, entry.author);
      const central = this.fact("seal-to");
      const sealed = central === "" ? null : await sealFor(central, changeInfo, changeText(entry));
      const text = JSON.stringify({ entry, record });
      turn.aside.push({ entry, record, kept: await sealFor(pairs[0]?.public ?? "", asideInfo, text), sealed });
    }
    turn.drafts = await this.sealDrafts(name, (author) => this.pairsFor(turn, author));
    return turn;
  }

  /** The keys of somebody, made where they have none yet. */
  private async pairsFor(turn: Turn, author: string): Promise<Pair[]> {
    const known = turn.pairs.get(author) ?? this.pairsOf(author);
    if (known.length > 0) {
      return known;
    }
    const made = [await newPair()];
    turn.pairs.set(author, made);
    return made;
  }

  private unsealed(stays: string): Entry[] {
    return this.db.all<Entry>(
      `SELECT * FROM outbox WHERE kept IS NULL AND author <> ? AND author IN (SELECT name FROM people) ORDER BY number`,
      [stays],
    );
  }

  /** Makes somebody the one who is signed in. What others have not sent is put aside. */
  protected become(turn: Turn): void {
    const { name } = turn;
    const who = this.one<Person>(`SELECT * FROM people WHERE name = ?`, [name]);
    if (who) {
      this.switchSource(name);
    }
    this.putAside(turn);
    if (this.fact("worker") !== name) {
      this.noteAll();
    }
    this.setFact("worker", who ? name : "");
    this.setFact("role", who?.role ?? "");
    this.setFact("territories", who?.territories ?? "[]");
  }

  private putAside({ name, aside, drafts, pairs }: Turn): void {
    const open = this.unsealed(name);
    // Who takes over saves under a source of their own, and these have got a name for theirs just now.
    const bare = (q: Entry | undefined) => JSON.stringify({ ...q, origin: "" });
    const same = (q: Entry, n: number) => bare(q) === bare(aside[n]?.entry);
    if (open.length !== aside.length || !open.every(same) || !this.putDraftsAside(name, drafts)) {
      throw new Meanwhile();
    }
    for (const [who, made] of pairs) {
      this.setPairs(who, made);
    }
    const rows = new Map<string, { row: Stored; token: string; author: string; kept: string }>();
    for (const one of aside) {
      const { entry: q, kept, sealed } = one;
      const at = `${q.collection} ${q.record}`;
      const known = rows.get(at) ?? { row: one.record, token: this.newID(), author: q.author, kept };
      rows.set(at, known);
      this.db.run(
        `UPDATE outbox SET collection = '', record = ?, kind = '', base = 0, fields = '{}', seen = '[]', folds = '[]',
           digests = '[]', parts = ?, batch = NULL, kept = ?, sealed = ?, told = NULL,
           reasons = CASE WHEN EXISTS (SELECT 1 FROM json_each(reasons) r WHERE r.value->>'code' = 'number-reused') THEN reasons END
         WHERE number = ?`,
        [known.token, q.parts === "[]" ? q.parts : partsAside, kept, sealed, q.number],
      );
    }
    for (const { row, author, kept } of rows.values()) {
      this.layOver(row, underOf(row));
      if (!this.load(row.collection, row.id) && row.local !== "{}") {
        // Nothing of it is left here but what never leaves this device. The change's own text has it, too.
        this.db.run(`INSERT INTO kept_local (author, kept) VALUES (?, ?)`, [author, kept]);
      }
    }
  }

  /** Opens what was put aside for a worker. What was sealed before they forgot a PIN stays as it is, and is still delivered. */
  protected async openedFor(name: string, keys: CryptoKey[]): Promise<Kept> {
    const open = async (sealed: string): Promise<string | undefined> => {
      for (const key of keys) {
        const text = await openSealed(key, asideInfo, sealed);
        if (text !== undefined) {
          return text;
        }
      }
      return undefined;
    };
    const changes: Opened[] = [];
    for (const q of this.closedOf(name)) {
      const text = await open(q.kept ?? "");
      if (text === undefined) {
        continue;
      }
      const { entry, record } = JSON.parse(text) as Aside;
      let { reasons } = entry;
      if (q.told !== null) {
        const told = await open(q.told);
        if (told === undefined) {
          throw new DeviceError("damaged", `what central said of change ${q.number} cannot be read`);
        }
        reasons = told;
      }
      changes.push({ entry, record, kept: q.kept ?? "", told: q.told, reasons });
    }
    const local: OpenedLocal[] = [];
    for (const { at, kept } of this.db.all<{ at: number; kept: string }>(
      `SELECT rowid AS at, kept FROM kept_local WHERE author = ?`,
      [name],
    )) {
      const text = await open(kept);
      if (text !== undefined) {
        local.push({ at, record: (JSON.parse(text) as Aside).record });
      }
    }
    return { changes, local, drafts: await this.readDrafts(name, keys) };
  }

  private closedOf(name: string): Entry[] {
    return this.db.all<Entry>(`SELECT * FROM outbox WHERE author = ? AND kept IS NOT NULL ORDER BY number`, [name]);
  }

  /** Puts what was put aside for a worker back into the outbox and over the records. */
  private takeUp({ changes, local }: Kept): void {
    const rows = new Map<string, Stored>();
    for (const { entry: was, record, kept, told, reasons } of changes) {
      const now = this.one<Entry>(`SELECT * FROM outbox WHERE number = ?`, [was.number]);
      if (now?.kept !== kept || now.told !== told) {
        throw new Meanwhile();
      }
      this.db.run(
        `UPDATE outbox SET collection = ?, record = ?, kind = ?, base = ?, fields = ?, seen = ?, folds = ?, digests = ?,
           parts = ?, reasons = ?, batch = NULL, kept = NULL, sealed = NULL, told = NULL WHERE number = ?`,
        [
          was.collection,
          was.record,
          was.kind,
          was.base,
          was.fields,
          was.seen,
          was.folds,
          was.digests,
          was.parts,
          reasons,
          was.number,
        ],
      );
      const at = `${was.collection} ${was.record}`;
      rows.set(at, rows.get(at) ?? record);
    }
    for (const row of rows.values()) {
      this.showAgain(row);
    }
    for (const { at, record } of local) {
      const row = this.load(record.collection, record.id);
      if (!row) {
        continue; // it may come back
      }
      if (row.local === "{}") {
        this.put({ ...row, local: record.local });
        this.note(row.collection, row.id, Boolean(row.removed));
      }
      this.db.run(`DELETE FROM kept_local WHERE rowid = ?`, [at]);
    }
  }

  /**
   * Lays what was taken up of a record over how it is now. What is no longer here since then is shown as its author last
   * saw it, until its changes are answered.
   */
  private showAgain(was: Stored): void {
    const now = this.load(was.collection, was.id);
    const row: Stored = now
      ? { ...now, local: now.local === "{}" ? was.local : now.local }
      : { ...stored(was.collection, was.id), ...was, withdrawn: Math.max(was.withdrawn, was.revision) };
    this.layOver(row, underOf(row));
  }

  /** Seals why a change that was put aside was refused, or waits, so that its author alone can read it. */
  protected async tellAside(author: string, reasons: string): Promise<string> {
    let [first] = this.pairsOf(author);
    if (!first) {
      first = await newPair();
      this.setPairs(author, [first]);
    }
    return sealFor(first.public, asideInfo, reasons);
  }

  /** Lets a worker save under a source of their own; one under which nobody has saved yet is theirs, whoever it was for. */
  private switchSource(name: string): void {
    const owner = this.fact("source-of");
    if (owner === name) {
      return;
    }
    const last = String(this.lastNumber());
    if (owner !== "" && this.fact("source-from") !== last) {
      this.goUnder(this.newID());
      this.setFact("renewed", "true");
      this.setFact("answered", "");
    }
    this.ownSource(name, last);
  }

  /** The source under which changes of a worker go that another store has used the numbers of; empty for the present one. */
  protected freshSource(author: string): string {
    const owner = this.fact("source-of");
    if (owner === author || owner === "") {
      return "";
    }
    this.setFact("renewed", "true");
    return this.newID();
  }

  protected pairsOf(name: string): Pair[] {
    const row = this.one<{ keys: string }>(`SELECT keys FROM people WHERE name = ?`, [name]);
    return row ? (JSON.parse(row.keys) as Pair[]) : [];
  }

  protected setPairs(name: string, pairs: Pair[]): void {
    this.db.run(`UPDATE people SET keys = ? WHERE name = ?`, [JSON.stringify(pairs), name]);
  }
}

/** A change as a batch carries it, without what is known only when it is sent. */
export function changeText(q: Entry, more: string[] = []): string {
  const parts = [
    `"number":${q.number},"collection":${write(q.collection)},"record":${write(q.record)},"kind":${write(q.kind)}`,
    `"base":${q.base},"stamp":${write(q.stamp)},"edited_at":${write(q.edited_at)},"author":${write(q.author)}`,
  ];
  if (q.fields !== "{}") parts.push(`"fields":${q.fields}`);
  if (q.grp !== "") parts.push(`"group":{"id":${write(q.grp)},"of":${q.grp_of}}`);
  if (q.seen !== "[]") parts.push(`"seen":${q.seen}`);
  if (q.folds !== "[]") parts.push(`"folds":${q.folds},"fold_digests":${q.digests}`);
  return `{${[...parts, ...more].join(",")}}`;
}
