// The people of a device: who may use it, and who does.
import { parse, write } from "../core/json.ts";
import { Sealer, type Person, type Turn } from "./aside.ts";
import { DeviceError } from "./errors.ts";
import { newPair, newSecret, openAll, recognise, relock, storedSecret, type Secret } from "./seal.ts";

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

const leastSecret = 4; // characters

const freeTries = 3; // wrong ones in a row before waiting begins

const firstWait = 15_000; // milliseconds

const longestWait = 3_600_000;

export class House extends Sealer {
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
      `DELETE FROM people WHERE name NOT IN (SELECT value FROM json_each(?)) AND name NOT IN (SELECT author FROM outbox)
         AND name NOT IN (SELECT author FROM drafts)`,
      [JSON.stringify(all.map((who) => who.name))],
    );
    this.become(turn);
  }

  /** Who stays signed in once central has said who may use the device. */
  protected staying(all: Told[]): string {
    const worker = this.fact("worker");
    return all.some((who) => who.name === worker) ? worker : "";
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
}

/** Refuses a PIN or password that is too short. */
export function checkSecret(secret: string): void {
  if ([...secret].length < leastSecret) {
    throw new DeviceError("short-secret", `the PIN or password is too short; take at least ${leastSecret} characters`);
  }
}

/** What a list of people of central's says. */
export function peopleOf(text: string): Told[] {
  return (JSON.parse(write(parse(text))) as Partial<Told>[]).map((who) => ({
    name: who.name ?? "",
    role: who.role ?? "",
    territories: who.territories ?? [],
  }));
}
