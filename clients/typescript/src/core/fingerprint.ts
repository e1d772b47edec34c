// Digests: SHA-256 (FIPS 180-4) over what two sides compare.
import { sha256 } from "@noble/hashes/sha2.js";
import { bytesToHex, concatBytes, hexToBytes, utf8ToBytes } from "@noble/hashes/utils.js";
import { byBytes } from "./json.ts";
import { counterOf, millisOf, type Stamp } from "./stamp.ts";
import type { Delta, Source } from "./state.ts";

/** The 16 bytes of a UUID. */
export function bytesOf(id: string): Uint8Array {
  return hexToBytes(id.replaceAll("-", ""));
}

/** A set of records by what they hold; adding one twice takes it out again. */
export class FingerprintSet {
  private readonly sum = new Uint8Array(32);
  count = 0;

  /** Takes one record in: its id and its fields as one canonical JSON object. */
  add(id: string, fields: string): void {
    sha256(concatBytes(bytesOf(id), utf8ToBytes(fields))).forEach((byte, n) => {
      this.sum[n] = (this.sum[n] ?? 0) ^ byte;
    });
    this.count++;
  }

  toString(): string {
    return bytesToHex(this.sum.slice(0, 6));
  }
}

/** The part of all records that an id falls into: its last two digits. */
export function bucket(id: string): string {
  return id.slice(-2);
}

/** Tells whether two sides have the same of a record: 9 bytes of SHA-256 over fields and marks, in base64url. */
export function digest(fields: string, marks: string): string {
  const length = utf8ToBytes(fields).length;
  const hash = sha256(utf8ToBytes(`${length} ${fields}${marks}`)).slice(0, 9);
  return btoa(String.fromCharCode(...hash))
    .replaceAll("+", "-")
    .replaceAll("/", "_");
}

/** A change, as far as its digest covers it. Times are in milliseconds since 1970. */
export interface Digested {
  number: number;
  base: number;
  stamp: Stamp;
  editedAt: number;
  collection: string;
  record: string;
  kind: string;
  author: string;
  group?: { id: string; of: number };
  seen: Source[];
  folds: number[];
  fields: Delta;
}

/** Tells two changes with the same number apart: 16 bytes of SHA-256, in hexadecimal. */
export function changeDigest(c: Digested): string {
  const parts: Uint8Array[] = [];
  const part = (text: string | number | bigint) => {
    const bytes = utf8ToBytes(String(text));
    const length = new DataView(new ArrayBuffer(8)); // so that no part can pass for the end of another
    length.setBigUint64(0, BigInt(bytes.length));
    parts.push(new Uint8Array(length.buffer), bytes);
  };
  const stamp = [millisOf(c.stamp), counterOf(c.stamp)];
  [c.number, c.base, ...stamp, BigInt(c.editedAt) * 1_000_000n].forEach(part);
  part(c.collection);
  parts.push(bytesOf(c.record));
  part(c.kind);
  part(c.author);
  if (c.group) {
    part(`group ${c.group.of}`);
    parts.push(bytesOf(c.group.id));
  }
  c.seen.forEach((one) => part(`seen ${one.incarnation} ${one.number}`));
  c.folds.forEach((number) => part(`folds ${number}`));
  for (const name of Object.keys(c.fields).sort(byBytes)) {
    part(name);
    part(c.fields[name]?.from ?? "");
    part(c.fields[name]?.to ?? "");
  }
  return bytesToHex(sha256(concatBytes(...parts)).slice(0, 16));
}
