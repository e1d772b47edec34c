// Digests: SHA-256 (FIPS 180-4) over what two sides compare.
import { sha256 } from "@noble/hashes/sha2.js";
import { bytesToHex, concatBytes, hexToBytes, utf8ToBytes } from "@noble/hashes/utils.js";

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
