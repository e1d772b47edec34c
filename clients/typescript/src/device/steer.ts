// What central says of how a device behaves. A setting that is not known here, or a value that cannot be taken, is left alone, and
// central hears of that.
import { parse, type Value } from "../core/json.ts";
import { blank, isObject } from "../core/state.ts";

/** Settings by name. */
export type Settings = { [name: string]: Value };

/** What central said last. */
export interface Kept {
  digest: string;
  values: Settings;
  /** When it was taken over, by the device's clock (RFC 3339). */
  at: string;
}

const units: { [unit: string]: number } = { minute: 60_000, hour: 3_600_000, day: 86_400_000, week: 604_800_000 };

/** A time such as 10 minutes, in milliseconds; nothing for what is none. */
export function spanOf(value: Value | undefined): number | undefined {
  const [, n, unit = ""] =
    /^([1-9]\d{0,5}) (minute|hour|day|week)s?$/.exec(typeof value === "string" ? value : "") ?? [];
  return n === undefined ? undefined : Number(n) * (units[unit] ?? 0);
}

const whole = (value: Value, least: number, most: number) =>
  typeof value === "number" && Number.isInteger(value) && value >= least && value <= most;
const week = 604_800_000;

/** The settings that are known here, with what each takes. */
const known: { [name: string]: (value: Value) => boolean } = {
  budget: (value) => whole(value, 0, 2 ** 50),
  exchange_every: (value) => (spanOf(value) ?? 0) >= 60_000 && (spanOf(value) ?? 0) <= week,
  hold_back: (value) => typeof value === "boolean",
  least_version: (value) => typeof value === "string",
  listen: (value) => typeof value === "boolean",
  note: (value) => typeof value === "string",
  page: (value) => whole(value, 20, 1000),
};

/** Reads what is kept. */
export function keptOf(text: string): Kept {
  const kept = text === "" ? undefined : (JSON.parse(text) as { digest: string; at: string; values: string });
  return kept
    ? { digest: kept.digest, at: kept.at, values: parse(kept.values) as Settings }
    : { digest: "", values: blank(), at: "" };
}

/** A setting that is in order; nothing where central says none, or none that can be taken. */
export function said(kept: Kept, name: string): Value | undefined {
  const value = kept.values[name];
  return value !== undefined && known[name]?.(value) ? value : undefined;
}

/** Names that are not known here, and those whose values cannot be taken. */
export function unknownOf(values: Value | undefined): string[] {
  const names = isObject(values) ? Object.entries(values) : [];
  return names.filter(([name, value]) => !known[name]?.(value)).map(([name]) => name);
}
