// Ids that are made here.
import { sha1 } from "@noble/hashes/legacy.js";
import { concatBytes, hexToBytes, utf8ToBytes } from "@noble/hashes/utils.js";

function uuidOf(bytes: Uint8Array, version: number): string {
  bytes[6] = ((bytes[6] ?? 0) & 0x0f) | (version << 4);
  bytes[8] = ((bytes[8] ?? 0) & 0x3f) | 0x80;
  const digits = [...bytes].map((byte) => byte.toString(16).padStart(2, "0")).join("");
  return digits.replace(/^(.{8})(.{4})(.{4})(.{4})/, "$1-$2-$3-$4-");
}

/** An id that follows from a name within a space of such (RFC 9562, section 5.5). */
export function uuid5(space: string, name: string): string {
  return uuidOf(sha1(concatBytes(hexToBytes(space.replaceAll("-", "")), utf8ToBytes(name))).slice(0, 16), 5);
}

/** An id by a clock's time and chance (RFC 9562, section 5.7). */
export function uuid7(now: number): string {
  const bytes = crypto.getRandomValues(new Uint8Array(16));
  let at = BigInt(Math.max(Math.floor(now), 0));
  for (let n = 5; n >= 0; n--) {
    bytes[n] = Number(at & 0xffn);
    at >>= 8n;
  }
  return uuidOf(bytes, 7);
}
