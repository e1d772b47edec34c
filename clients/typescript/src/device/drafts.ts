// What was typed into a form and not saved: it survives like a save, is its author's alone, and is never sent.
import { DeviceError } from "./errors.ts";
import { Keeper } from "./keep.ts";
import { asideInfo, openSealed, sealFor, type Pair } from "./seal.ts";

/** What stands in a form. */
export interface Draft {
  collection: string;
  /** The record; of one that is new the id that it is to have. */
  record: string;
  /** When something was typed last. */
  at: string;
  /** What the form keeps, as it wrote it. */
  text: string;
}

/** A row of the table drafts. One that is put aside has nothing but its author and what was sealed. */
interface Row extends Draft {
  number: number;
  author: string;
  kept: string | null;
}

/** A draft with what seals it. */
export interface SealedDraft {
  row: Row;
  kept: string;
}

const mostText = 1 << 20; // characters

export class Drafter extends Keeper {
  /** Keeps what stands in a form of whoever is signed in. It is on the disk when this returns. */
  keepDraft(collection: string, record: string, text: string): void {
    this.mustBeSomebody();
    if (text.length > mostText) {
      throw new DeviceError(
        "not-allowed",
        `a draft takes up to ${mostText} characters, and this one has ${text.length}`,
      );
    }
    this.within(() => {
      this.dropDraft(collection, record);
      this.db.run(`INSERT INTO drafts (author, collection, record, at, text) VALUES (?, ?, ?, ?, ?)`, [
        this.fact("worker"),
        collection,
        record,
        this.time(),
        text,
      ]);
    });
  }

  /** Lets go of a draft, as when it was saved or thrown away. */
  dropDraft(collection: string, record: string): void {
    this.db.run(`DELETE FROM drafts WHERE author = ? AND collection = ? AND record = ?`, [
      this.fact("worker"),
      collection,
      record,
    ]);
  }

  /** The drafts of whoever is signed in, the latest first. */
  drafts(): Draft[] {
    this.mustBeSomebody();
    return this.db.all<Draft>(
      `SELECT collection, record, at, text FROM drafts WHERE author = ? AND kept IS NULL ORDER BY at DESC, number DESC`,
      [this.fact("worker")],
    );
  }

  private openDrafts(stays: string): Row[] {
    return this.db.all<Row>(
      `SELECT * FROM drafts WHERE kept IS NULL AND author <> ? AND author IN (SELECT name FROM people) ORDER BY number`,
      [stays],
    );
  }

  /** Seals the drafts of others than somebody. */
  protected async sealDrafts(stays: string, pairsOf: (author: string) => Promise<Pair[]>): Promise<SealedDraft[]> {
    const all: SealedDraft[] = [];
    for (const row of this.openDrafts(stays)) {
      const [first] = await pairsOf(row.author);
      all.push({ row, kept: await sealFor(first?.public ?? "", asideInfo, JSON.stringify(row)) });
    }
    return all;
  }

  /** Puts drafts aside, and says whether they are still what was sealed. */
  protected putDraftsAside(stays: string, sealed: SealedDraft[]): boolean {
    if (JSON.stringify(this.openDrafts(stays)) !== JSON.stringify(sealed.map(({ row }) => row))) {
      return false;
    }
    for (const { row, kept } of sealed) {
      this.db.run(`UPDATE drafts SET collection = '', record = '', at = '', text = '', kept = ? WHERE number = ?`, [
        kept,
        row.number,
      ]);
    }
    return true;
  }

  /** Opens the drafts that were put aside for somebody. What none of the keys opens stays as it is. */
  protected async readDrafts(name: string, keys: CryptoKey[]): Promise<SealedDraft[]> {
    const all: SealedDraft[] = [];
    for (const { kept } of this.db.all<{ kept: string }>(
      `SELECT kept FROM drafts WHERE author = ? AND kept IS NOT NULL ORDER BY number`,
      [name],
    )) {
      for (const key of keys) {
        const text = await openSealed(key, asideInfo, kept);
        if (text !== undefined) {
          all.push({ row: JSON.parse(text) as Row, kept });
          break;
        }
      }
    }
    return all;
  }

  /** Gives somebody the drafts back that were put aside for them. */
  protected takeUpDrafts(opened: SealedDraft[]): void {
    for (const { row, kept } of opened) {
      this.db.run(
        `UPDATE drafts SET collection = ?, record = ?, at = ?, text = ?, kept = NULL WHERE number = ? AND kept = ?`,
        [row.collection, row.record, row.at, row.text, row.number, kept],
      );
    }
  }
}
