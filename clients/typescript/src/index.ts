// A device of Homing: records that are there without signal, edits that are safe at once, and exchanges with central.
import { Repeater } from "./device/repeat.ts";

/**
 * One local store: it keeps the records that its worker needs, takes edits at once and for good, and exchanges them
 * with central when central can be reached. Reading and saving return when they are done; only what talks to central
 * is waited for.
 */
export class Store extends Repeater {}

export { canonical, Exact, ValueError, type Value } from "./core/json.ts";
export type { Decision, Kind, Rule } from "./core/merge.ts";
export type { Reason } from "./core/schema.ts";
export type { Cell, CellState, Coverage, CoverageColumn, CoverageLine, Sums } from "./core/coverage.ts";
export { parsePeriod, periodOf, Period, type PeriodKind } from "./core/period.ts";
export type { Delta, Dispute } from "./core/state.ts";
export type { Database, Param } from "./device/database.ts";
export type { Queued, Values } from "./device/desk.ts";
export { AskError, DeviceError, InvalidError, Problem, type ErrorName } from "./device/errors.ts";
export type { Changed, Options, Tick } from "./device/file.ts";
export type { Attention, Grade } from "./core/definition.ts";
export type { Counts, Past } from "./device/counts.ts";
export type { Draft } from "./device/drafts.ts";
export type { Ask, Found, Mark, Places } from "./device/find.ts";
export type { Age, Steered } from "./device/keep.ts";
export type { Worker } from "./device/house.ts";
export type { Exchanged, ExchangeOptions, Holding } from "./device/line.ts";
export type { Progress } from "./device/meet.ts";
export type { RepeatOptions } from "./device/repeat.ts";
export type { LostRecord } from "./device/reconcile.ts";
export type { Settings } from "./device/steer.ts";
export type { Summary } from "./device/receiver.ts";
export type { DeviceRecord } from "./device/shelf.ts";
export type { Difference, Verified } from "./device/verify.ts";
