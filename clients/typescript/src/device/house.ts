// The people of a device: who may use it, and who does. What one of them has not sent is sealed for the others, and goes
// to central with anybody's exchange all the same.
import { parse, write } from "../core/json.ts";
import { DeviceError } from "./errors.ts";
import {
  asideInfo,
  changeInfo,
  newPair,
  newSecret,
  openAll,
  openSealed,
  recognise,
  relock,
  sealFor,
  storedSecret,
  type Pair,
  type Secret,
} from "./seal.ts";
import { Keeper } from "./keep.ts";
import { stored, underOf, type Entry, type Stored } from "./shelf.ts";

/** One of the people who may use a device. */
export interface Worker {
  name: string;
  role: string;
  /** A PIN or password is set. */
  secret: boolean;
  signedIn: boolean;
  /** Changes of theirs that central has not accepted. */
  unsent: number;
}

/** A person as central says. */
export interface Told {
  name: string;
  role: string;
  territories: string[];
}

/** A row of the table people. */
interface Person {
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

/** What it takes to let somebody be the one who is signed in. */
export interface Turn {
  name: string;
  aside: Sealed[];
  /** Keys of people who had none, by name. */
  pairs: Map<string, Pair[]>;
}

/** Stands for the parts of a change that was put aside: what they are, only its author can read. */
const partsAside = "aside";

const leastSecret = 4; // characters
const freeTries = 3; // wrong ones in a row before waiting begins
const firstWait = 15_000; // milliseconds
const longestWait = 3_600_000;
const mostTurns = 20; // attempts to let somebody sign in while others save

/** Something was saved between sealing and the transaction that puts aside. */
class Meanwhile extends Error {
  override message = "others go on saving; try again";
}

export class House extends Keeper {
  /** Lists who may use this device, and what they have not sent. */
  people(): Worker[] {
    const now = this.fact("worker");
    return this.db
      .all<Person & { unsent: number }>(
        `SELECT p.*, (SELECT count(*) FROM outbox o WHERE o.author = p.name) AS unsent FROM people p ORDER BY place, name`,
      )
      .map(({ name, role, secret, unsent }) => ({
        name,
        role,
        secret: secret !== "",
        signedIn: name === now,
        unsent,
      }));
  }

  /** Gives whoever is signed in a PIN or password, in place of the old one. */
  async setSecret(old: string, secret: string): Promise<void> {
    checkSecret(secret);
    const worker = this.fact("worker");
    if (worker === "") {
      throw new DeviceError("signed-out", "nobody is signed in");
    }
    const was = await this.prove(worker, old);
    const now = await newSecret(secret);
    const pairs = await relock(this.pairsOf(worker), was, now);
    this.within(() => {
      this.setPairs(worker, pairs);
      this.db.run(`UPDATE people SET secret = ? WHERE name = ?`, [storedSecret(now), worker]);
    });
  }

  /** Lets a worker use the device whose PIN or password this is. What others have not sent is sealed for them alone. */
  async signIn(name: string, secret: string): Promise<void> {
    const who = name.trim().toLowerCase();
    const proved = await this.prove(who, secret);
    const keys = await openAll(this.pairsOf(who), proved);
    await this.turn(
      who,
      () => this.mayLeave(who),
      () => this.openedFor(who, keys),
    );
  }

  /** Lets nobody use the device until somebody signs in. It says how much of theirs is unsent; exchanges go on sending it. */
  async signOut(): Promise<number> {
    const who = this.people().find((one) => one.signedIn);
    if (!who) {
      throw new DeviceError("signed-out", "nobody is signed in");
    }
    await this.turn("", () => this.mayLeave(""));
    return who.unsent;
  }

  /** Gives a worker a PIN or password in place of one that they may have forgotten, and signs them in. */
  protected async joined(who: Told, text: string): Promise<void> {
    const now = await newSecret(text);
    const before = this.pairsOf(who.name);
    const pairs = [await newPair(now), ...before];
    const keys = await openAll(before, now);
    await this.turn(
      who.name,
      () => {
        this.db.run(
          `INSERT INTO people (name, place, role, territories) VALUES (?, (SELECT count(*) FROM people), ?, ?)
             ON CONFLICT DO NOTHING`,
          [who.name, who.role, write(who.territories)],
        );
        this.setPairs(who.name, pairs);
        this.db.run(`UPDATE people SET secret = ?, tries = 0, tried_at = NULL WHERE name = ?`, [
          storedSecret(now),
          who.name,
        ]);
      },
      () => this.openedFor(who.name, keys),
    );
  }

  /** Refuses to let whoever is signed in be followed by somebody else while anybody could sign in as them. */
  protected mayLeave(next: string): void {
    const now = this.people().find((one) => one.signedIn);
    if (now && !now.secret && now.name !== next) {
      throw new DeviceError(
        "no-secret",
        `${now.name} has no PIN or password yet; set one first, so that nobody else can sign in as ${now.name}`,
      );
    }
  }

  /** Makes somebody the one who is signed in, once what that takes has been sealed and opened. */
  private turn(
    name: string,
    first: () => void,
    opened: () => Promise<[Opened[], OpenedLocal[]]> = async () => [[], []],
  ): Promise<void> {
    return this.exclusive(async () => {
      await this.sealing(
        () => name,
        (turn, [changes, local]) => {
          first();
          this.become(turn);
          this.takeUp(changes, local);
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

  /** Lets nobody be signed in on a store that was restored, where several can be: who restores it may be anybody. */
  protected async leaveAsRestored(): Promise<void> {
    const all = this.people();
    if (all.length > 1 && all.every((who) => who.secret)) {
      await this.turn("", () => {});
    }
  }

  /** Makes a store of what was a backup: nothing that it saves from now on reuses a number of the store that is lost. */
  async renewAsRestored(): Promise<void> {
    if (this.fact("token") === "") {
      throw new DeviceError("not-enrolled", "this store is not enrolled");
    }
    this.within(() => this.newIncarnation());
    await this.leaveAsRestored();
  }

  /** Seals what others than somebody have not sent; an empty name is nobody. */
  private async prepareTurn(name: string): Promise<Turn> {
    const turn: Turn = { name, aside: [], pairs: new Map() };
    for (const entry of this.unsealed(name)) {
      const record = this.load(entry.collection, entry.record);
      if (!record) {
        throw new DeviceError("damaged", `change ${entry.number} is of a record that is not here`);
      }
      let pairs = turn.pairs.get(entry.author) ?? this.pairsOf(entry.author);
      if (pairs.length === 0) {
        pairs = [await newPair()];
        turn.pairs.set(entry.author, pairs);
      }
      const central = this.fact("seal-to");
      const sealed = central === "" ? null : await sealFor(central, changeInfo, changeText(entry));
      const text = JSON.stringify({ entry, record });
      turn.aside.push({ entry, record, kept: await sealFor(pairs[0]?.public ?? "", asideInfo, text), sealed });
    }
    return turn;
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

  private putAside({ name, aside, pairs }: Turn): void {
    const open = this.unsealed(name);
    // Who takes over saves under a source of their own, and these have got a name for theirs just now.
    const bare = (q: Entry | undefined) => JSON.stringify({ ...q, origin: "" });
    const same = (q: Entry, n: number) => bare(q) === bare(aside[n]?.entry);
    if (open.length !== aside.length || !open.every(same)) {
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
  private async openedFor(name: string, keys: CryptoKey[]): Promise<[Opened[], OpenedLocal[]]> {
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
    return [changes, local];
  }

  private closedOf(name: string): Entry[] {
    return this.db.all<Entry>(`SELECT * FROM outbox WHERE author = ? AND kept IS NOT NULL ORDER BY number`, [name]);
  }

  /** Puts what was put aside for a worker back into the outbox and over the records. */
  private takeUp(changes: Opened[], local: OpenedLocal[]): void {
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

  /**
   * Takes over who may use the device now. Somebody who may no longer use it goes, unless changes of theirs are unsent; if
   * they are signed in, they are signed out. The turn was prepared for whoever stays.
   */
  protected takePeople(all: Told[], turn: Turn): void {
    for (const [place, who] of all.entries()) {
      this.db.run(
        `INSERT INTO people (name, place, role, territories) VALUES (?, ?, ?, ?)
           ON CONFLICT (name) DO UPDATE SET place = excluded.place, role = excluded.role, territories = excluded.territories`,
        [who.name, place, who.role, write(who.territories)],
      );
    }
    this.db.run(
      `DELETE FROM people WHERE name NOT IN (SELECT value FROM json_each(?)) AND name NOT IN (SELECT author FROM outbox)`,
      [JSON.stringify(all.map((who) => who.name))],
    );
    this.become(turn);
  }

  /** Who stays signed in once central has said who may use the device. */
  protected staying(all: Told[]): string {
    const worker = this.fact("worker");
    return all.some((who) => who.name === worker) ? worker : "";
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

  /**
   * Checks a worker's PIN or password. After a few wrong tries each further one has to wait, longer every time; the tries
   * are counted in the store, so that opening it anew does not help.
   */
  private async prove(name: string, text: string): Promise<Secret | undefined> {
    const row = this.one<Person>(`SELECT * FROM people WHERE name = ?`, [name]);
    if (!row) {
      throw new DeviceError(
        "nobody",
        `${name} does not use this device; with an enrolment code of theirs, they can join it`,
      );
    }
    if (row.secret === "" && row.place > 0) {
      throw new DeviceError(
        "nobody",
        `this store has no PIN or password of ${name}, as after a restore; with an enrolment code of theirs, they can join it again`,
      );
    }
    if (row.secret === "") {
      return undefined;
    }
    // The try is counted before it is known to be wrong: whoever breaks it off has had it all the same.
    this.within(() => {
      const now = this.latest();
      this.setFact("latest", String(now));
      const { tries, tried_at } = this.one<Person>(`SELECT * FROM people WHERE name = ?`, [name]) ?? row;
      if (tried_at !== null && tries >= freeTries) {
        const wait = Math.min(firstWait * 2 ** (tries - freeTries), longestWait);
        const left = wait - Math.max(now - Date.parse(tried_at), 0);
        if (left > 0) {
          throw new DeviceError("slow-down", `${tries} wrong in a row; wait ${Math.ceil(left / 1000)} seconds`);
        }
      }
      this.db.run(`UPDATE people SET tries = tries + 1, tried_at = ? WHERE name = ?`, [
        new Date(now).toISOString(),
        name,
      ]);
    });
    const secret = await recognise(row.secret, text);
    if (!secret) {
      throw new DeviceError("secret", "this is not the PIN or password");
    }
    this.db.run(`UPDATE people SET tries = 0, tried_at = NULL WHERE name = ?`, [name]);
    return secret;
  }

  private pairsOf(name: string): Pair[] {
    const row = this.one<{ keys: string }>(`SELECT keys FROM people WHERE name = ?`, [name]);
    return row ? (JSON.parse(row.keys) as Pair[]) : [];
  }

  private setPairs(name: string, pairs: Pair[]): void {
    this.db.run(`UPDATE people SET keys = ? WHERE name = ?`, [JSON.stringify(pairs), name]);
  }
}

/** Refuses a PIN or password that is too short. */
export function checkSecret(secret: string): void {
  if ([...secret].length < leastSecret) {
    throw new DeviceError("short-secret", `the PIN or password is too short; take at least ${leastSecret} characters`);
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

/** What a list of people of central's says. */
export function peopleOf(text: string): Told[] {
  return (JSON.parse(write(parse(text))) as Partial<Told>[]).map((who) => ({
    name: who.name ?? "",
    role: who.role ?? "",
    territories: who.territories ?? [],
  }));
}
