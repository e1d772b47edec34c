// Errors that callers act on, by name: the same names as in the line protocol of docs/conformance.md.
import type { Reason } from "../core/schema.ts";

export type ErrorName =
  | "not-enrolled"
  | "enrolled"
  | "no-collection"
  | "no-record"
  | "no-change"
  | "nobody"
  | "no-secret"
  | "short-secret"
  | "secret"
  | "slow-down"
  | "erased"
  | "too-old"
  | "unsent"
  | "taken"
  | "busy"
  | "generation"
  | "not-allowed"
  | "clock"
  | "has-children"
  | "group-size"
  | "no-dispute"
  | "revoked"
  | "signed-out"
  | "damaged"
  | "newer"
  | "unreachable"
  | "full"
  | "no-storage"
  | "cleared"
  | "interrupted";

/** What a device says no to, in words for people. */
export class DeviceError extends Error {
  override name = "DeviceError";
  constructor(
    readonly code: ErrorName,
    message: string,
    options?: ErrorOptions,
  ) {
    super(message, options);
  }
}

/** A record that does not fit its definition. */
export class InvalidError extends Error {
  override name = "InvalidError";
  constructor(
    readonly collection: string,
    readonly reasons: Reason[],
  ) {
    super(reasons.map((r) => (r.field ? `${r.field}: ${r.message}` : r.message)).join("; "));
  }
}

/** What central says no to: an RFC 9457 problem. */
export class Problem extends Error {
  override name = "Problem";
  constructor(
    readonly status: number,
    readonly type: string,
    readonly detail: string,
    readonly retryAfter: number | undefined,
  ) {
    super(detail);
  }
}

/** A question that makes no sense; the message says why. */
export class AskError extends Error {
  override name = "AskError";
}
