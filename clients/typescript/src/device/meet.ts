// How a device meets central: enrolment, calls, the clock, the definitions.
import { isArray, write, type Value } from "../core/json.ts";
import * as stamps from "../core/stamp.ts";
import { DeviceError, Problem } from "./errors.ts";
import { checkSecret, peopleOf } from "./house.ts";
import { Link, type Call } from "./link.ts";
import { list, members, text, type Members, type Summary } from "./receiver.ts";
import { Reconciler } from "./reconcile.ts";
import { unknownOf } from "./steer.ts";

/** How far an exchange is. */
export interface Progress {
  phase: "push" | "pull";
  collection?: string;
  done: number;
  total?: number;
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

export abstract class Meeter extends Reconciler {
  /** Shows central its word on all cursors, for which single requests have no room. */
  protected abstract recognise(run: Run): Promise<void>;

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

  /** Tells central of a new incarnation, or a restored central of all that it has had. */
  protected async renew(run: Run): Promise<void> {
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

  /** Finds out whether central is the one this store knows, measures the clock, and takes over the definitions. */
  protected async meet(run: Run): Promise<void> {
    const sent = this.now();
    const hello = members(await this.call(run, { method: "GET", path: "/v1/hello" }));
    const [received, answered] = [hello.received_at, hello.answered_at].map((at) => Date.parse(text(at)));
    run.offset = stamps.measure(sent, received ?? sent, answered ?? sent, this.now());
    run.maxChanges = Math.max(Number(hello.max_changes ?? run.maxChanges), 1);
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

  protected async define(run: Run): Promise<void> {
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
    this.takeSettings(members(sent.settings));
    const digest = text(sent.digest);
    this.setFact("definitions", digest === "" ? "" : [digest, ...names].join(" "));
  }

  private takeSettings(told: Members): void {
    const digest = text(told.digest);
    if (digest !== this.kept.digest) {
      const values = write(told.values ?? {});
      this.setFact("settings", JSON.stringify({ digest, values, at: this.time() }));
    }
  }

  /** What central is to hear of the settings that this device goes by, as a member of JSON; nothing where it has heard. */
  protected untold(): string[] {
    const { digest, at, values } = this.kept;
    if (digest === this.fact("settings-told")) {
      return [];
    }
    return [`"settings":${write({ digest, ...(at === "" ? {} : { at }), unknown: unknownOf(values) })}`];
  }

  /** Notes that central has heard of the settings that this device goes by. */
  protected told(untold: string[]): void {
    if (untold.length > 0) {
      this.setFact("settings-told", this.kept.digest);
    }
  }

  /** What this exchange measured of the device's clock, as JSON. */
  protected clockOf(run: Run): string {
    const { by, error } = run.offset;
    return `{"sent_at":${write(this.time())},"offset_ms":${Math.trunc(by)},"error_ms":${Math.ceil(error)}}`;
  }
}
