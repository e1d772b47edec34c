// Stamps: readings of a hybrid logical clock (Kulkarni et al., "Logical Physical Clocks", 2014), as texts that order
// as the stamps do, and what an exchange measures of a device's clock.

/** A stamp, such as "0199d3a1c2b4-0003". The empty text comes before every other. */
export type Stamp = string;

const maxMillis = 2 ** 48 - 1;
const maxCounter = 0xffff;

function at(millis: number, counter: number): Stamp {
  return `${millis.toString(16).padStart(12, "0")}-${counter.toString(16).padStart(4, "0")}`;
}

function bounded(millis: number): number {
  return Math.min(Math.max(millis, 0), maxMillis);
}

/** The milliseconds since 1970 of a stamp; 0 of none. */
export function millisOf(stamp: Stamp): number {
  return stamp === "" ? 0 : parseInt(stamp.slice(0, 12), 16);
}

/** The counter of a stamp; 0 of none. */
export function counterOf(stamp: Stamp): number {
  return stamp === "" ? 0 : parseInt(stamp.slice(13), 16);
}

/** The stamp of an event at now, on a device whose last stamp was last: later than that, whatever its clock says. */
export function next(last: Stamp, now: number): Stamp {
  const fresh = bounded(now);
  const before = millisOf(last);
  if (fresh > before) {
    return at(fresh, 0);
  }
  const counter = counterOf(last);
  return counter === maxCounter ? at(before + 1, 0) : at(before, counter + 1);
}

/** Reads a stamp; nothing for a text that is none. */
export function parse(text: string): Stamp | undefined {
  return /^[0-9a-fA-F]{12}-[0-9a-fA-F]{4}$/.test(text) ? text.toLowerCase() : undefined;
}

/** How far a device's clock is behind central's, in milliseconds: the true offset lies within error of by. */
export interface Offset {
  by: number;
  error: number;
}

/** Takes the four times of a question and its answer, in milliseconds; the round trip bounds the error (RFC 5905, 8). */
export function measure(sent: number, received: number, answered: number, back: number): Offset {
  return {
    by: (received - sent + answered - back) / 2,
    error: Math.max((back - sent - (answered - received)) / 2, 0),
  };
}

/** The stamp that an edit gets in central's time. One dated after its receipt counts as of its receipt. */
export function correct(offset: Offset, stamp: Stamp, received: number): Stamp {
  const corrected = bounded(millisOf(stamp) + Math.trunc(offset.by));
  return at(Math.min(corrected, bounded(Math.floor(received))), counterOf(stamp));
}
