// An exchange with central: push until the outbox is answered, then pull to the head.
import { FingerprintSet } from "../core/fingerprint.ts";
import { isArray, write, type Value } from "../core/json.ts";
import * as stamps from "../core/stamp.ts";
import { DeviceError, Problem } from "./errors.ts";
import { changeText, checkSecret, peopleOf } from "./house.ts";
import type { Age } from "./keep.ts";
import { Link, type Call } from "./link.ts";
import { list, members, text, type Members, type Summary } from "./receiver.ts";
import { Reconciler } from "./reconcile.ts";
import { answeredBefore, listOf, type Entry, type Stored } from "./shelf.ts";

/** How far an exchange is. */
export interface Progress {
  phase: "push" | "pull";
  collection?: string;
  done: number;
  total?: number;
}

/** A collection as the device has it. */
export interface Holding {
  name: string;
  title: string;
  version: number;
  records: number;
  pending: number;
  cursor: number;
  head: number;
  pulledAt: string | null;
  direction: string;
  keep: string;
  age: Age;
}

/** An exchange that is over. */
export interface Exchanged {
  startedAt: string;
  endedAt: string;
  summary: Summary;
  /** Why it broke off; empty where it did not. */
  error: string;
}

/** How an exchange is watched and broken off. */
export interface ExchangeOptions {
  watch?: (progress: Progress) => void;
  signal?: AbortSignal;
}

/** What central asks a device to do once all else in an exchange is done. */
export interface Errand {
  id: string;
  what: string;
}

/** What a device holds and owes, as it reports. */
export interface Report {
  cursors: { [collection: string]: number };
  unsent: number;
  refused: number;
  waiting: number;
}

/** One run. */
export interface Run {
  link: Link;
  summary: Summary;
  offset: stamps.Offset;
  maxChanges: number;
  maxBytes: number;
  /** Collections that central has now; a restored one may lack some. */
  defined: Set<string>;
  /** Central lets this device deliver at most. */
  revoked: boolean;
  /** The outbox is ready to be sent. */
  prepared: boolean;
  /** Collections that a trip has brought to their heads. */
  settled: Set<string> | undefined;
  /** What central knows of this store by a trip; nothing where that is not all. */
  told: Report | undefined;
  /** Trips came to nothing: the exchange goes by single requests. */
  longWay: boolean;
  errands: Errand[];
  /** Central has heard that the store goes. */
  erases: boolean;
  watch: (progress: Progress) => void;
  signal: AbortSignal | undefined;
}

export const firstBatch = 500;
const pageRecords = 2000;
const leastPage = 20;
const mostAsked = 500;
const keptExchanges = 200;
const perChange = 300; // bytes that a change weighs besides its fields, about

export abstract class Line extends Reconciler {
  private busy = false;

  /** Meets central, and does by the way as much of the exchange as fits. */
  protected abstract begin(run: Run, push: boolean, pull: boolean): Promise<void>;

  /** Brings what is new in all collections at once, after batches or definitions that came first, where that may be. */
  protected abstract pullAtOnce(run: Run): Promise<void>;

  /** Brings what was looked up of a collection in line with central. */
  protected abstract refresh(run: Run, name: string): Promise<void>;

  /** Does what central has asked for, and says what became of it, as JSON for the report. */
  protected abstract runErrands(run: Run): Promise<Value[]>;

  /** Makes the store a device of central, with a one-time code. While central is open, the code may be empty. */
  async enrol(central: string, code: string, name: string, signal?: AbortSignal): Promise<void> {
    if (this.fact("token") !== "") {
      throw new DeviceError("enrolled", "this store is enrolled already");
    }
    const base = central.replace(/\/+$/, "");
    const ask = {
      code,
      device: name,
      incarnation: this.fact("incarnation"),
      agent: this.options.agent ?? "homing-device",
    };
    const link = new Link(base, "", this.options.fetch ?? fetch);
    const got = members(
      await link.call({
        method: "POST",
        path: "/v1/enrolments",
        body: JSON.stringify(ask),
        signal,
      }),
    );
    this.within(() => {
      for (const fact of ["device", "token", "worker", "role", "generation"] as const) {
        this.setFact(fact, String(got[fact]));
      }
      this.setFact("source-of", String(got.worker));
      this.setFact("seal-to", text(got.seal_to));
      this.setFact("central", base);
      this.setFact("name", name);
      this.setFact("held", "[]");
      this.setFact("territories", "[]");
      this.db.run(`INSERT INTO people (name, place, role, territories) VALUES (?, 0, ?, '[]')`, [
        String(got.worker),
        String(got.role),
      ]);
    });
  }

  /**
   * Lets somebody else use this device, too, with an enrolment code of theirs and a PIN or password; whoever is on it
   * already and has forgotten theirs gets a new one by it. It says who is signed in now.
   */
  async join(code: string, secret: string): Promise<string> {
    checkSecret(secret);
    this.mayLeave("");
    const body = JSON.stringify({ code });
    const got = await this.single({ method: "POST", path: "/v1/device/people", body });
    const [who] = peopleOf(write([got ?? null]));
    if (!who) {
      throw new DeviceError("unreachable", "central did not say who joins");
    }
    await this.joined(who, secret);
    return who.name;
  }

  /** Makes one call that is in no exchange. */
  protected single(call: Call): Promise<Value | undefined> {
    const link = new Link(this.fact("central"), this.fact("token"), this.options.fetch ?? fetch);
    return link.call({ ...call, headers: { "Homing-Incarnation": this.fact("incarnation"), ...call.headers } });
  }

  /** Pushes until the outbox is answered, then pulls to the head. What was answered or stored is kept if it breaks off. */
  exchange(options: ExchangeOptions = {}): Promise<Summary> {
    return this.run(true, true, options);
  }

  /** Only pushes. */
  push(options: ExchangeOptions = {}): Promise<Summary> {
    return this.run(true, false, options);
  }

  /** Only pulls. Unsent changes stay, laid over what comes. */
  pull(options: ExchangeOptions = {}): Promise<Summary> {
    return this.run(false, true, options);
  }

  /** One exchange. After is done with its connection once all else is, but for what central asks for. */
  protected async run(
    push: boolean,
    pull: boolean,
    options: ExchangeOptions,
    after: (run: Run) => Promise<void> = async () => {},
  ): Promise<Summary> {
    if (this.busy) {
      throw new DeviceError("busy", "an exchange of this store is running already");
    }
    if (this.fact("token") === "") {
      throw new DeviceError("not-enrolled", "this store is not enrolled; enrol it with an enrolment code");
    }
    this.busy = true;
    return this.exclusive(() => this.runAlone(push, pull, options, after));
  }

  private async runAlone(
    push: boolean,
    pull: boolean,
    options: ExchangeOptions,
    after: (run: Run) => Promise<void>,
  ): Promise<Summary> {
    const started = this.time();
    const counts = {
      sent: 0,
      applied: 0,
      merged: 0,
      held: 0,
      refused: 0,
      waiting: 0,
      received: 0,
      removed: 0,
      withdrawn: 0,
    };
    const run: Run = {
      link: new Link(this.fact("central"), this.fact("token"), this.options.fetch ?? fetch),
      summary: { exchange: this.newID(), ...counts },
      offset: this.offset,
      maxChanges: firstBatch,
      maxBytes: 1 << 20,
      defined: new Set(),
      revoked: false,
      prepared: false,
      settled: undefined,
      told: undefined,
      longWay: false,
      errands: [],
      erases: false,
      watch: options.watch ?? (() => {}),
      signal: options.signal,
    };
    try {
      await this.meetAgain(run, push, pull);
      if (pull && !run.revoked) {
        await this.pullAfterRestore(run);
      }
      if (push) {
        await this.pushAll(run);
      }
      if (run.revoked) {
        throw new DeviceError("revoked", "this device was revoked; it gets nothing more from central");
      }
      if (pull) {
        await this.pullAll(run);
      }
      await after(run);
      await this.report(run, await this.runErrands(run));
      this.forgetTravelled();
      this.log(started, run.summary, "");
    } catch (error) {
      this.log(started, run.summary, error instanceof Error ? error.message : String(error));
      throw error;
    } finally {
      this.busy = false;
    }
    if (run.erases && this.giveUp() === undefined) {
      this.db.wipe();
      throw new DeviceError("erased", "central asked for it, and nothing was unsent: this store was erased");
    }
    return run.summary;
  }

  /** Keeps what an exchange came to, also when it was broken off. */
  private log(started: string, summary: Summary, error: string): void {
    this.within(() => {
      this.db.run(`INSERT INTO exchanges (id, started_at, ended_at, summary, error) VALUES (?, ?, ?, ?, ?)`, [
        summary.exchange,
        started,
        this.time(),
        JSON.stringify(summary),
        error,
      ]);
      this.db.run(
        `DELETE FROM exchanges WHERE id NOT IN (SELECT id FROM exchanges ORDER BY started_at DESC LIMIT ${keptExchanges})`,
      );
    });
  }

  /** The latest exchanges of this store, the last one first. */
  exchanges(): Exchanged[] {
    const rows = this.db.all<{ started_at: string; ended_at: string; summary: string; error: string }>(
      `SELECT * FROM exchanges ORDER BY started_at DESC, id DESC`,
    );
    return rows.map((row) => ({
      startedAt: row.started_at,
      endedAt: row.ended_at,
      summary: JSON.parse(row.summary) as Summary,
      error: row.error,
    }));
  }

  /**
   * Sets the cursor of a collection back: the next exchange pulls again what was accepted since. What is here stays as it is,
   * and nothing unsent is touched. It is for developers who want to see that.
   */
  turnBack(collection: string, cursor: number): void {
    this.collection(collection);
    const now = this.coverage(collection).cursor;
    if (!Number.isInteger(cursor) || cursor < 0 || cursor > now) {
      throw new DeviceError(
        "not-allowed",
        `the cursor of ${collection} is ${now}; it can be turned back to 0 to ${now}, and forward only by pulling`,
      );
    }
    this.db.run(`UPDATE collections SET cursor = ?1, loading = loading OR ?1 = 0 WHERE name = ?2`, [
      cursor,
      collection,
    ]);
  }

  /** What would be lost with the store, in words; nothing where nothing would. */
  protected spared(): string | undefined {
    const owed = this.one<{ changes: number; lost: number; local: number }>(
      `SELECT (SELECT count(*) FROM outbox) AS changes,
         (SELECT count(*) FROM records WHERE lost <> '') + (SELECT count(*) FROM lost_values) AS lost,
         (SELECT count(*) FROM records WHERE local <> '{}') + (SELECT count(*) FROM kept_local) AS local`,
    );
    if (owed?.changes) {
      return `${owed.changes} changes are to be mended or discarded on the device first`;
    }
    if (owed?.lost) {
      return `it has ${owed.lost} records of which central has lost something, to be offered or let go on the device first`;
    }
    if (owed?.local) {
      return `${owed.local} records have values that stay on the device, and go with its store alone`;
    }
    return undefined;
  }

  /** Makes the store one that takes nothing more, where nothing would be lost with it; otherwise it says what would. */
  private giveUp(): string | undefined {
    return this.within(() => {
      const why = this.spared();
      if (why === undefined) {
        this.setFact("token", "");
        this.setFact("erasing", "true");
      }
      return why;
    });
  }

  protected call(run: Run, call: Omit<Call, "signal">): Promise<Value | undefined> {
    const headers = {
      "Homing-Exchange": run.summary.exchange,
      "Homing-Incarnation": this.fact("incarnation"),
    };
    return run.link.call({
      ...call,
      headers: { ...headers, ...call.headers },
      signal: run.signal,
    });
  }

  /** When what this store shows tells central that its database was put back, central is another, and they meet anew. */
  private async meetAgain(run: Run, push: boolean, pull: boolean): Promise<void> {
    try {
      await this.begin(run, push, pull);
    } catch (error) {
      if (!(error instanceof Problem && error.type.endsWith(":generation-changed"))) {
        throw error;
      }
      await this.meet(run);
    }
  }

  /** Tells central of a new incarnation, or a restored central of all that it has had. */
  private async renew(run: Run): Promise<void> {
    if (this.fact("renewed") !== "true") {
      return;
    }
    const earlier = this.db.all<{ origin: string }>(
      `SELECT origin FROM outbox WHERE origin <> '' UNION SELECT origin FROM travelled WHERE origin <> ''`,
    );
    for (const incarnation of [...earlier.map((one) => one.origin), this.fact("incarnation")]) {
      await this.call(run, {
        method: "PUT",
        path: "/v1/device/incarnation",
        body: JSON.stringify({ incarnation }),
      });
    }
    this.setFact("renewed", "");
  }

  /** Loads what a restored central has before anything is offered again, so that people see that first. */
  private async pullAfterRestore(run: Run): Promise<void> {
    const lost = this.one<{ is: number }>(
      `SELECT EXISTS (SELECT 1 FROM records WHERE lost <> '') AND EXISTS (SELECT 1 FROM collections WHERE loading) AS "is"`,
    );
    if (lost?.is === 1) {
      await this.pullAll(run);
    }
  }

  /** Asks central about the records of which it has not said since its restore that it has them. */
  private async askLost(run: Run): Promise<void> {
    this.pruneLostValues();
    const rows = this.db.all<{ collection: string; id: string }>(
      `SELECT collection, id FROM records WHERE lost <> '' ORDER BY collection, id`,
    );
    for (const name of new Set(rows.map((row) => row.collection))) {
      const held = rows.filter((row) => row.collection === name && run.defined.has(name));
      for (let from = 0; from < held.length; from += mostAsked) {
        const records = held.slice(from, from + mostAsked).map(({ id }) => ({ id, revision: 0 }));
        const body = JSON.stringify({ records });
        const got = members(
          await this.call(run, {
            method: "POST",
            path: `/v1/refresh/${name}`,
            body,
          }),
        );
        this.within(() => this.takeRecords(name, list(got.records), { ...run.summary }), true);
      }
    }
    if (rows.length > 0) {
      this.dropUnknown();
    }
  }

  /** Finds out whether central is the one this store knows, measures the clock, and takes over the definitions. */
  protected async meet(run: Run): Promise<void> {
    const sent = this.now();
    const hello = members(await this.call(run, { method: "GET", path: "/v1/hello" }));
    const [received, answered] = [hello.received_at, hello.answered_at].map((at) => Date.parse(text(at)));
    run.offset = stamps.measure(sent, received ?? sent, answered ?? sent, this.now());
    run.maxChanges = Math.max(Number(hello.max_changes ?? firstBatch), 1);
    run.maxBytes = Number(hello.max_bytes ?? run.maxBytes);
    const [generation, known] = [text(hello.generation), this.fact("generation")];
    if (generation !== known) {
      if (!(isArray(hello.earlier) && hello.earlier.includes(known))) {
        throw new DeviceError(
          "generation",
          "central's database is not the one that this store was enrolled with; nothing was sent",
        );
      }
      this.backupBefore("central-restored");
      this.reconcile(known, generation);
    }
    await this.renew(run);
    this.within(() => this.keepOffset(run.offset));
    try {
      await this.recognise(run);
      await this.define(run);
    } catch (error) {
      if (!(error instanceof Problem && error.type.endsWith(":revoked"))) {
        throw error;
      }
      run.revoked = true; // whether it may deliver shows with the first batch
    }
  }

  /** Keeps what was measured of the clock, and what was measured last before the machine was started anew. */
  protected keepOffset(offset: stamps.Offset): void {
    const { boot, since } = this.tick();
    if (this.fact("offset") !== "" && this.fact("boot") !== boot) {
      this.setFact("then", this.fact("offset"));
    }
    this.setFact("boot", boot);
    this.setFact("offset", `${offset.by} ${offset.error} ${this.now() - since} ${since}`);
  }

  /** Shows central its word on all cursors, for which single requests have no room. */
  protected abstract recognise(run: Run): Promise<void>;

  private async define(run: Run): Promise<void> {
    const seals = this.db.all<{ seal: string }>(
      `SELECT seal FROM collections WHERE seal <> '' ORDER BY pulled_at DESC LIMIT 50`,
    );
    const headers: { [name: string]: string } =
      seals.length > 0 ? { "Homing-Seals": seals.map((one) => one.seal).join(",") } : {};
    await this.takeDefined(run, members(await this.call(run, { method: "GET", path: "/v1/definitions", headers })));
  }

  protected async takeDefined(run: Run, sent: Members): Promise<void> {
    const names = list(sent.definitions).map((d) => text(d.collection));
    run.defined = new Set(names);
    await this.takeDefinitions(sent);
    const digest = text(sent.digest);
    this.setFact("definitions", digest === "" ? "" : [digest, ...names].join(" "));
  }

  /** Makes the outbox ready to be sent. */
  protected prepare(run: Run): void {
    run.prepared = true;
    this.fold();
    // What waits for another change may go in now.
    this.db.run(`UPDATE outbox SET state = 'sent', reasons = NULL, batch = NULL WHERE state = 'waiting'`);
  }

  /** How many changes a batch carries at most: as many as went through last, or as many as there may be. */
  protected batchSize(run: Run): { most: number; largest: number } {
    const largest = Math.max(Math.min(firstBatch, run.maxChanges), 1);
    return { most: Math.min(Number(this.fact("batch")) || largest, largest), largest };
  }

  /** Sends batch after batch until everything is answered. */
  private async pushAll(run: Run): Promise<void> {
    if (!run.prepared) {
      this.prepare(run);
    }
    const { most: before, largest } = this.batchSize(run);
    let most = before;
    for (;;) {
      const { id, changes } = this.nextBatch(most, run.maxBytes / 2);
      if (changes.length === 0) {
        this.hang();
        if (!(await this.partFromCopy(run.summary))) {
          return;
        }
        await this.renew(run);
        continue;
      }
      let answers: Members;
      try {
        answers = members(
          await this.call(run, {
            method: "POST",
            path: "/v1/batches",
            body: this.written(run, id, changes),
          }),
        );
      } catch (error) {
        const smaller = error instanceof Problem && [408, 413, 504].includes(error.status);
        if (!smaller || changes.length < 2 || most < 2) {
          throw error;
        }
        // Each change keeps its number, so none can count twice, whatever became of the batch.
        most = Math.max(Math.floor(Math.min(most, changes.length) / 2), 1);
        this.resize(id, most);
        continue;
      }
      await this.hearAnswers(run, id, changes, answers);
      run.settled = undefined; // what was pulled before is behind again
      if (most < largest) {
        most = Math.min(most * 2, largest);
        this.setFact("batch", String(most));
      }
      run.watch({ phase: "push", done: run.summary.sent });
    }
  }

  /** Stores the answers to a batch, if they are those. */
  protected async hearAnswers(run: Run, id: string, changes: Entry[], answers: Members): Promise<void> {
    const all = list(answers.answers);
    if (text(answers.batch) !== id || all.length !== changes.length) {
      throw new DeviceError(
        "unreachable",
        `central answered ${all.length} of ${changes.length} changes; they are kept`,
      );
    }
    const uncertain = (q: Entry) => this.unsure(run, q) + Math.ceil(run.offset.error);
    await this.takeAnswers(changes, all, answers, run.summary, uncertain);
    await this.renew(run); // something may go under another source now
    run.summary.sent += changes.length;
  }

  /** The batch to send next: one that got no answer, or a new one, which is on the disk before it leaves. */
  protected nextBatch(most: number, bytes: number): { id: string; changes: Entry[] } {
    return this.within(() => {
      const open = this.db.all<Entry>(
        `SELECT * FROM outbox o WHERE state IN ('new', 'sent') AND (kept IS NULL OR sealed IS NOT NULL) AND NOT EXISTS
           (SELECT 1 FROM outbox w WHERE w.collection = o.collection AND w.record = o.record AND w.state = 'waiting'
             AND w.number < o.number AND o.kind <> 'add')
         ORDER BY batch IS NULL, coalesce(place, number) LIMIT ?`,
        [most + 400],
      );
      const changes = cutBatch(open, most, bytes);
      const known = changes[0]?.batch;
      if (changes.length === 0 || known) {
        return { id: known ?? "", changes };
      }
      const id = this.newID();
      this.db.run(`UPDATE outbox SET batch = ?, state = 'sent' WHERE number IN (SELECT value FROM json_each(?))`, [
        id,
        JSON.stringify(changes.map((q) => q.number)),
      ]);
      return { id, changes };
    });
  }

  private resize(id: string, most: number): void {
    this.within(() => {
      this.db.run(`UPDATE outbox SET batch = NULL WHERE batch = ? AND state = 'sent'`, [id]);
      this.setFact("batch", String(most));
    });
  }

  /** What a batch says. */
  protected written(run: Run, id: string, changes: Entry[]): string {
    const all = changes.map((q) => {
      const dated: string[] = [];
      const turned = this.turned(q);
      if (turned !== 0) dated.push(`"turned_ms":${turned}`);
      const unsure = this.unsure(run, q);
      if (unsure > 0) dated.push(`"unsure_ms":${unsure}`);
      return q.kept === null
        ? changeText(q, dated)
        : `{${[`"number":${q.number},"sealed":${write(q.sealed)}`, ...dated].join(",")}}`;
    });
    const source = changes[0]?.origin || this.fact("incarnation");
    const generation = changes[0]?.generation || this.fact("generation");
    const identity = `"batch":${write(id)},"exchange":${write(run.summary.exchange)},"incarnation":${write(source)}`;
    return `{${identity},"generation":${write(generation)},"clock":${this.clockOf(run)},"changes":[${all.join(",")}]}`;
  }

  /** By how much a change may be dated wrong besides, since the machine was started anew after it was stamped. */
  private unsure(run: Run, q: Entry): number {
    if (q.boot === answeredBefore) {
      return q.unsure;
    }
    if (q.boot === this.tick().boot) {
      return 0;
    }
    const [by, error] = this.fact("then").split(" ").map(Number);
    if (by === undefined || error === undefined) {
      return Math.ceil(Math.abs(this.now() - stamps.millisOf(q.stamp)));
    }
    return Math.ceil(Math.max(Math.abs(run.offset.by - by) + error - run.offset.error, 0));
  }

  /** Brings each collection to its head; when the worker's territories change meanwhile, it starts over with those. */
  private async pullAll(run: Run): Promise<void> {
    for (let tries = 3; ; tries--) {
      try {
        return await this.pullEach(run);
      } catch (error) {
        if (!(error instanceof Problem && error.type.endsWith(":coverage-changed")) || tries === 1) {
          throw error;
        }
        run.settled = undefined;
        await this.define(run);
      }
    }
  }

  private async pullEach(run: Run): Promise<void> {
    if (!run.settled) {
      this.lookAnew();
      await this.pullAtOnce(run);
      if (run.revoked) {
        return;
      }
    }
    for (const name of this.definitions().keys()) {
      const c = this.collection(name);
      if (run.defined.has(name) && c.keep === "on demand" && c.direction !== "up") {
        await this.refresh(run, name);
      }
      if (!run.defined.has(name) || !c.loads || run.settled?.has(name)) {
        continue;
      }
      const covers = await this.cover(run, name);
      await this.pullFrom(run, name, this.coverage(name).cursor, covers, false);
    }
    await this.askLost(run);
  }

  /** Brings what is loaded of a collection in line with the territories that the worker holds. */
  private async cover(run: Run, name: string): Promise<string[] | undefined> {
    const c = this.collection(name);
    const held = listOf(this.fact("held"));
    const known = this.coverage(name);
    const all = held.includes("*");
    if (!c.territorial) {
      this.setCoverage(name, ["*"]);
      return undefined; // everybody covers all; central decides by what it has stored
    }
    if (known.cursor === 0 && known.gaining === undefined) {
      if (!all) {
        this.dropOutside(c, held, run.summary);
      }
      this.setCoverage(name, held);
      return held;
    }
    let loaded = known.covers;
    if (!all && loaded.some((key) => !held.includes(key))) {
      this.dropOutside(c, held, run.summary);
      loaded = loaded.filter((key) => key === "*" || held.includes(key));
    }
    const gained = held.filter((key) => !loaded.includes(key));
    if (!loaded.includes("*") && gained.length > 0) {
      let from = known.gained;
      if (write(known.gaining ?? []) !== write(gained)) {
        this.setGaining(name, loaded, gained);
        from = 0;
      }
      await this.pullFrom(run, name, from, gained, true);
    }
    this.setCoverage(name, held);
    return held;
  }

  private async pullFrom(
    run: Run,
    name: string,
    from: number,
    covers: string[] | undefined,
    gaining: boolean,
  ): Promise<void> {
    const row = this.one<{ loading: number; held: number }>(
      `SELECT loading, EXISTS (SELECT 1 FROM records WHERE collection = ?1) AS held FROM collections WHERE name = ?1`,
      [name],
    );
    // What this device itself once sent may not be here any more while the collection is loaded.
    const answered = row?.loading || gaining || from === 0 || this.fact("torn") !== "" ? 0 : this.answered();
    let cursor = from;
    let empty = row?.held === 0 && from === 0;
    let limit = pageRecords;
    let done = 0;
    let total: number | undefined;
    for (let more = true; more;) {
      const ask = new URLSearchParams({
        cursor: String(cursor),
        limit: String(limit),
      });
      for (const key of covers?.length === 0 ? [""] : (covers ?? [])) {
        ask.append("covers", key);
      }
      if (answered > 0) ask.set("answered", String(answered));
      if (gaining || empty) ask.set("load", "true");
      let page: Members;
      try {
        page = members(
          await this.call(run, {
            method: "GET",
            path: `/v1/changes/${name}?${ask}`,
          }),
        );
      } catch (error) {
        const slow = error instanceof Problem && [408, 504].includes(error.status);
        if (!slow || limit === leastPage) {
          throw error;
        }
        limit = Math.max(Math.floor(limit / 4), leastPage);
        continue;
      }
      this.takePage(page, gaining, run.summary);
      more = page.more === true;
      cursor = Number(page.cursor);
      empty = false;
      done += isArray(page.records) ? page.records.length : 0;
      total ??= page.total === undefined ? undefined : Number(page.total);
      run.watch({
        phase: "pull",
        collection: name,
        done,
        ...(total === undefined ? {} : { total }),
      });
    }
  }

  /** The number up to which all changes of this store have an answer that is stored, or are in a batch that is to be. */
  protected answered(batch: Entry[] = []): number {
    const goes = batch.filter((q) => q.origin === "").map((q) => q.number);
    const highest = Math.max(Number(this.fact("answered")), ...goes);
    const open = this.one<{ n: number }>(
      `SELECT coalesce(min(number), 0) AS n FROM outbox WHERE origin = '' AND state IN ('new', 'sent')
         AND number NOT IN (SELECT value FROM json_each(?))`,
      [JSON.stringify(batch.map((q) => q.number))],
    )?.n;
    return open ? Math.min(highest, open - 1) : highest;
  }

  /** What the device holds and owes now. */
  protected owed(): Report {
    const owed = this.one<Omit<Report, "cursors">>(
      `SELECT coalesce(sum(state IN ('new', 'sent')), 0) AS unsent, coalesce(sum(state = 'refused'), 0) AS refused,
         coalesce(sum(state = 'waiting'), 0) AS waiting FROM outbox`,
    );
    const rows = this.db.all<{ name: string; cursor: number }>(`SELECT name, cursor FROM collections ORDER BY name`);
    const loaded = rows.filter(({ name }) => this.collection(name).loads);
    return {
      ...(owed ?? { unsent: 0, refused: 0, waiting: 0 }),
      cursors: Object.fromEntries(loaded.map(({ name, cursor }) => [name, cursor])),
    };
  }

  /** What this exchange measured of the device's clock, as JSON. */
  protected clockOf(run: Run): string {
    const { by, error } = run.offset;
    return `{"sent_at":${write(this.time())},"offset_ms":${Math.trunc(by)},"error_ms":${Math.ceil(error)}}`;
  }

  /**
   * Tells central what the device holds and owes now, unless central knows. It is for people to see; a central that cannot
   * take it has lost nothing. Nothing is erased before central has heard of it.
   */
  private async report(run: Run, errands: Value[]): Promise<void> {
    const owed = this.owed();
    const known = run.told;
    if (errands.length === 0 && known && write(sorted(known)) === write(sorted(owed))) {
      return;
    }
    const parts = [`"clock":${this.clockOf(run)}`, ...(errands.length > 0 ? [`"errands":${write(errands)}`] : [])];
    const body = `{${JSON.stringify(owed).slice(1, -1)},${parts.join(",")}}`;
    try {
      await this.call(run, { method: "PUT", path: "/v1/report", body });
    } catch (error) {
      run.erases = false;
      if (!(error instanceof Problem || (error instanceof DeviceError && error.code === "unreachable"))) {
        throw error;
      }
    }
  }

  /** What the device holds, by name. */
  collections(): Holding[] {
    const rows = this.db.all<{
      name: string;
      cursor: number;
      head: number;
      pulled_at: string | null;
    }>(`SELECT name, cursor, head, pulled_at FROM collections ORDER BY name`);
    return rows.map((row) => {
      const c = this.collection(row.name);
      const count = this.one<{ records: number; pending: number }>(
        `SELECT coalesce(sum(NOT removed), 0) AS records, coalesce(sum(pending > 0), 0) AS pending FROM records WHERE collection = ?`,
        [row.name],
      );
      return {
        name: row.name,
        title: c.title,
        version: c.version,
        records: count?.records ?? 0,
        pending: count?.pending ?? 0,
        cursor: row.cursor,
        head: row.head,
        pulledAt: row.pulled_at,
        direction: c.direction,
        keep: c.keep,
        age: this.ageOf(c).age,
      };
    });
  }

  /** The fingerprint of all records of a collection that the device shows. */
  fingerprint(collection: string): { count: number; fingerprint: string } {
    this.collection(collection);
    const set = new FingerprintSet();
    const rows = this.db.all<Stored>(`SELECT * FROM records WHERE collection = ? AND NOT removed`, [collection]);
    for (const row of rows) {
      set.add(row.id, row.fields);
    }
    return { count: set.count, fingerprint: String(set) };
  }
}

function sorted({ cursors, unsent, refused, waiting }: Report): Value {
  return { cursors: { ...cursors }, unsent, refused, waiting };
}

/** Takes from the front of the outbox what goes as one batch: so many changes and bytes, and no part of a group. */
function cutBatch(open: Entry[], most: number, bytes: number): Entry[] {
  let size = 0;
  let whole = 0;
  for (const [n, q] of open.entries()) {
    const first = open[0];
    if (q.batch !== first?.batch || q.origin !== first.origin || q.generation !== first.generation) {
      return open.slice(0, n);
    }
    size += q.fields.length + (q.sealed?.length ?? 0) + perChange;
    const full = n + 1 > most || size > bytes;
    const ends = q.grp === "" || open[n + 1]?.grp !== q.grp;
    if (full && whole > 0) {
      return open.slice(0, whole);
    }
    if (ends) {
      whole = n + 1;
      if (full) {
        return open.slice(0, whole);
      }
    }
  }
  return open;
}
