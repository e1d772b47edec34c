// Which places have reported for which periods, against what a definition expects.
import type { Collection } from "./definition.ts";
import { dateOf, parsePeriod, periodOf, type Period } from "./period.ts";
import { byBytes } from "./json.ts";
import { millisOf } from "./stamp.ts";
import { markOf, type Fields, type Marks } from "./state.ts";

export type CellState = "missing" | "begun" | "complete";

/** One place in one period. */
export interface Cell {
  state: CellState;
  /** The last day has passed and the record is not complete, or was completed after it. */
  late: boolean;
  expected: boolean;
  record?: string;
  /** Who marked the record complete, or of one that is begun, edited it last; and when. */
  by?: string;
  at?: string;
}

/** How many of the cells in which a record is expected are how. */
export interface Sums {
  expected: number;
  complete: number;
  begun: number;
  missing: number;
  /** Begun or missing, and the last day has passed. */
  late: number;
  /** Complete, but only after the last day. */
  completedLate: number;
}

export interface CoverageColumn {
  period: string;
  first: string;
  last: string;
  due: string;
  sums: Sums;
}

export interface CoverageLine {
  id: string;
  label: string;
  territories: string[];
  /** In the order of the periods; nothing where nothing is expected and nothing is there. */
  cells: (Cell | undefined)[];
  sums: Sums;
}

/** Places by periods. */
export interface Coverage {
  collection: string;
  /** The collection of the places. */
  of: string;
  /** The fields that name place and period. */
  place: string;
  period: string;
  kind: Period["kind"];
  completes: boolean;
  today: string;
  periods: CoverageColumn[];
  sums: Sums;
  places: CoverageLine[];
}

/** A place, with its values and what is worked out of them. */
export interface Place {
  id: string;
  fields: Fields;
  territories: string[];
}

/** A record for a place and a period. */
export interface CoverageEntry {
  id: string;
  fields: Fields;
  /** Nothing where central has not answered all that the record says. */
  marks: Marks | undefined;
  author: string;
  /** When it was edited last, in RFC 3339. */
  edited: string;
}

const usual = 8;
const most = 400;
const day = 86_400_000;

/** Those periods between two that a grid shows; the last that have begun where they are left out. Nothing where one is no period. */
export function periodsOf(c: Collection, from: string, until: string, today: number): Period[] | undefined {
  const { kind, expected } = c.coverage!;
  const first = parsePeriod(kind, expected.from);
  const last = parsePeriod(kind, expected.until);
  const now = periodOf(kind, today);
  const end = until === "" ? (last && last.first < now.first ? last : now) : parsePeriod(kind, until);
  if (!end) {
    return undefined;
  }
  const back = end.plus(1 - usual);
  const begin =
    from === ""
      ? first && back.first < first.first && first.first <= end.first
        ? first
        : back
      : parsePeriod(kind, from);
  const all: Period[] = [];
  for (let p = begin; p && p.first <= end.first && all.length < most; p = p.plus(1)) {
    all.push(p);
  }
  return all.length > 0 ? all : undefined;
}

function noSums(): Sums {
  return { expected: 0, complete: 0, begun: 0, missing: 0, late: 0, completedLate: 0 };
}

function count(sums: Sums, cell: Cell): void {
  if (cell.expected) {
    sums.expected++;
    sums[cell.state]++;
    if (cell.late) {
      sums[cell.state === "complete" ? "completedLate" : "late"]++;
    }
  }
}

/** Works a grid out. Today is a midnight UTC. */
export function cover(
  c: Collection,
  of: Collection,
  periods: Period[],
  today: number,
  places: Place[],
  entries: CoverageEntry[],
): Coverage {
  const { place, period, kind, complete } = c.coverage!;
  const due = periods.map((p) => c.due(p));
  const lines = new Map(
    places.map(({ id, fields, territories }) => {
      const cells = periods.map((p, n): Cell | undefined =>
        p.first <= today && c.expects(of, fields, p)
          ? { state: "missing", expected: true, late: today > due[n]! }
          : undefined,
      );
      return [id, { id, label: of.labelOf(fields), territories, cells, sums: noSums() }];
    }),
  );
  const columns = new Map(periods.map((p, n) => [String(p), n]));
  for (const { id, fields, marks, author, edited } of entries) {
    const cells = lines.get(c.textOf(fields, place))?.cells;
    const n = columns.get(c.textOf(fields, period));
    if (!cells || n === undefined) {
      continue;
    }
    const cell: Cell = {
      state: "begun",
      expected: cells[n]?.expected ?? false,
      late: today > due[n]!,
      record: id,
      by: author,
      at: edited,
    };
    const by = complete === "" ? author : c.completedBy(fields);
    if (by !== "") {
      const mark = marks && (complete === "" ? marks.base : markOf(marks, complete));
      const at = mark && mark.stamp !== "" ? new Date(millisOf(mark.stamp)).toISOString() : edited;
      Object.assign(cell, { state: "complete", by, at, late: Date.parse(at) >= due[n]! + day });
    }
    cells[n] = cell;
  }
  const sums = noSums();
  const grid = periods.map((p, n) => ({
    period: String(p),
    first: dateOf(p.first),
    last: dateOf(p.last),
    due: dateOf(due[n]!),
    sums: noSums(),
  }));
  for (const line of lines.values()) {
    line.cells.forEach((cell, n) => {
      if (cell) {
        [line.sums, sums, grid[n]!.sums].forEach((one) => count(one, cell));
      }
    });
  }
  const all = [...lines.values()].filter((line) => line.cells.some((cell) => cell));
  all.sort((a, b) => byBytes(a.label.toLowerCase(), b.label.toLowerCase()) || byBytes(a.id, b.id));
  return {
    collection: c.name,
    of: of.name,
    place,
    period,
    kind,
    completes: complete !== "",
    today: dateOf(today),
    periods: grid,
    sums,
    places: all,
  };
}
