// Records that an exchange does not bring: they are asked for at central while in signal.
import { AskError } from "./errors.ts";
import type { Ask, Found } from "./find.ts";
import type { Run } from "./meet.ts";
import { list, members, text, type Members } from "./receiver.ts";
import { stored, type Stored } from "./shelf.ts";
import { write } from "../core/json.ts";
import { Verifier } from "./verify.ts";

const atOnce = 500;

export class Seeker extends Verifier {
  /**
   * Looks up records at central of a collection that is kept on demand or never. Of the first, what was looked up stays on
   * the device; of the other, it is only shown.
   */
  async lookUp(collection: string, ask: Ask = {}): Promise<Found> {
    const c = this.readable(collection);
    if (c.loads) {
      throw new AskError(`${c.title} are on this device; find them here, an exchange brings what is new`);
    }
    const asked = new URLSearchParams({ search: ask.search ?? "", sort: ask.sort ?? "" });
    asked.set("offset", String(ask.offset ?? 0));
    if (ask.limit !== undefined) {
      asked.set("limit", String(ask.limit));
    }
    for (const condition of ask.where ?? []) {
      asked.append("where", condition);
    }
    const listing = members(await this.single({ method: "GET", path: `/v1/lookup/${collection}?${asked}` }));
    const rows: Stored[] = [];
    this.within(() => {
      for (const one of list(listing.records)) {
        const id = text(one.id);
        if (c.keep === "on demand") {
          this.takeRecords(collection, [one], this.uncounted());
          this.confirm(collection, id);
        }
        const row = this.load(collection, id) ?? shownOnly(collection, one);
        if (!row.removed) {
          rows.push(row);
        }
      }
    }, true);
    this.fitBudget();
    const total = Number(listing.total ?? rows.length);
    return {
      records: rows.map((row) => this.show(c, row)),
      total,
      more: listing.more === true,
      asOf: this.time(),
      age: "fresh",
    };
  }

  /** Brings what was looked up in line with central. */
  protected override async refresh(run: Run, name: string): Promise<void> {
    for (let after = ""; ;) {
      const held = this.db.all<{ id: string; revision: number }>(
        `SELECT id, revision FROM records WHERE collection = ? AND revision > 0 AND id > ? ORDER BY id LIMIT ${atOnce}`,
        [name, after],
      );
      const last = held.at(-1);
      if (!last) {
        break;
      }
      after = last.id;
      const body = JSON.stringify({ records: held });
      const got = members(await this.call(run, { method: "POST", path: `/v1/refresh/${name}`, body }));
      this.within(() => {
        this.takeRecords(name, list(got.records), run.summary);
        for (const { id } of held) {
          this.confirm(name, id);
        }
      }, true);
    }
    this.db.run(`UPDATE collections SET pulled_at = ? WHERE name = ?`, [this.time(), name]);
  }
}

/** A record that is shown and not kept. */
function shownOnly(collection: string, r: Members): Stored {
  return {
    ...stored(collection, text(r.id)),
    revision: Number(r.revision ?? 0),
    fields: write(r.fields ?? {}),
    marks: write(r.marks ?? {}),
    author: text(r.author),
    device: text(r.device),
    edited_at: text(r.edited_at),
    received_at: text(r.received_at),
  };
}
