// What the pages of an origin and the worker that has the store say to each other. Values travel as canonical JSON, so that no
// digit of a number is lost on the way.
import { Exact, parse, write, type Value } from "../core/json.ts";
import { AskError, DeviceError, InvalidError, Problem, type ErrorName } from "../device/errors.ts";

/** A call of a method of the store. From names the page that asks. */
export interface Asked {
  ask: string;
  from: string;
  method: string;
  /** The arguments, as a JSON list. */
  given: string;
}

/** What came of it, as JSON, or why nothing did. */
export interface Answered {
  answer: string;
  to: string;
  done?: string;
  failed?: Failure;
}

export interface Failure {
  kind: "device" | "invalid" | "problem" | "ask" | "other";
  code: string;
  message: string;
  /** Reasons of what is invalid; status, type and seconds of a problem. */
  more: string;
}

/**
 * What all pages are told: changes of records, progress, exchanges that nobody asked for, and that another page has the store now;
 * and what the page is told that has started the worker: that it runs.
 */
export interface Told {
  told: "changed" | "progress" | "exchanged" | "opened" | "running";
  what: string;
}

/** Breaks off the exchange that a call has asked for. */
export interface Broken {
  breakOff: string;
}

export type Message = Asked | Answered | Told | Broken;

/** Writes what a method gives; nothing becomes null. */
export function packed(value: unknown): string {
  return write((value ?? null) as Value);
}

/** Reads what a method gives, as plain objects. */
export function unpacked(text: string): unknown {
  return plain(parse(text));
}

function plain(value: Value): unknown {
  if (Array.isArray(value)) {
    return value.map(plain);
  }
  if (typeof value === "object" && value !== null && !(value instanceof Exact)) {
    return Object.fromEntries(Object.entries(value).map(([name, one]) => [name, plain(one)]));
  }
  return value;
}

export function failureOf(error: unknown): Failure {
  const message = error instanceof Error ? error.message : String(error);
  if (error instanceof DeviceError) {
    return { kind: "device", code: error.code, message, more: "" };
  }
  if (error instanceof InvalidError) {
    return { kind: "invalid", code: error.collection, message, more: JSON.stringify(error.reasons) };
  }
  if (error instanceof Problem) {
    const more = JSON.stringify({ status: error.status, retryAfter: error.retryAfter });
    return { kind: "problem", code: error.type, message, more };
  }
  return { kind: error instanceof AskError ? "ask" : "other", code: "", message, more: "" };
}

export function errorOf(failure: Failure): Error {
  switch (failure.kind) {
    case "device":
      return new DeviceError(failure.code as ErrorName, failure.message);
    case "invalid":
      return new InvalidError(failure.code, JSON.parse(failure.more) as InvalidError["reasons"]);
    case "problem": {
      const { status, retryAfter } = JSON.parse(failure.more) as { status: number; retryAfter?: number };
      return new Problem(status, failure.code, failure.message, retryAfter);
    }
    case "ask":
      return new AskError(failure.message);
    default:
      return new Error(failure.message);
  }
}
