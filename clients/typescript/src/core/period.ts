// The periods for which something is collected: days, weeks, months, quarters and years, written as 2026-10-24, 2026-W43,
// 2026-10, 2026-Q4 and 2026. A week belongs to the year that has its Thursday (ISO 8601).

export type PeriodKind = "day" | "week" | "month" | "quarter" | "year";

const written: { [kind in PeriodKind]: RegExp } = {
  day: /^(\d{4})-(\d{2})-(\d{2})$/,
  week: /^(\d{4})-W(\d{2})$/,
  month: /^(\d{4})-(\d{2})$/,
  quarter: /^(\d{4})-Q(\d)$/,
  year: /^(\d{4})$/,
};
const monthsOf: { [kind: string]: number } = { month: 1, quarter: 3, year: 12 };
const day = 86_400_000;
const thursday = 3; // days after Monday, where 1970 began

/** A date as text, of a midnight UTC. */
export function dateOf(at: number): string {
  return new Date(at).toISOString().slice(0, 10);
}

export class Period {
  /** The kind, and the first day as a midnight UTC in milliseconds. */
  constructor(
    readonly kind: PeriodKind,
    readonly first: number,
  ) {}

  /** The last day, as a midnight UTC. */
  get last(): number {
    return this.plus(1).first - day;
  }

  /** The period so many later, or earlier. */
  plus(n: number): Period {
    const months = monthsOf[this.kind];
    if (months === undefined) {
      return new Period(this.kind, this.first + n * day * (this.kind === "week" ? 7 : 1));
    }
    const at = new Date(this.first);
    return new Period(this.kind, at.setUTCMonth(at.getUTCMonth() + n * months));
  }

  /** The year that the period belongs to, and which of it it is. */
  get numbered(): { year: number; n: number } {
    const at = new Date(this.first + (this.kind === "week" ? thursday * day : 0));
    const year = at.getUTCFullYear();
    const n =
      this.kind === "week"
        ? Math.floor((at.getTime() - Date.UTC(year, 0, 1)) / (7 * day)) + 1
        : Math.floor(at.getUTCMonth() / (monthsOf[this.kind] ?? 12)) + 1;
    return { year, n };
  }

  toString(): string {
    if (this.kind === "day") {
      return dateOf(this.first);
    }
    const { year, n } = this.numbered;
    const two = String(n).padStart(2, "0");
    return String(year) + { week: `-W${two}`, month: `-${two}`, quarter: `-Q${n}`, year: "" }[this.kind];
  }
}

/** The period of a kind in which a date lies: a midnight UTC. */
export function periodOf(kind: PeriodKind, at: number): Period {
  if (kind === "day") {
    return new Period(kind, at);
  }
  if (kind === "week") {
    const days = Math.floor(at / day);
    return new Period(kind, (days - ((((days + thursday) % 7) + 7) % 7)) * day);
  }
  const date = new Date(at);
  const months = monthsOf[kind] ?? 12;
  return new Period(kind, Date.UTC(date.getUTCFullYear(), Math.floor(date.getUTCMonth() / months) * months, 1));
}

/** Reads a period as it is written; nothing where there is none such. */
export function parsePeriod(kind: PeriodKind, text: string): Period | undefined {
  const parts = written[kind].exec(text);
  const [year, n = 1, date = 1] = (parts ?? []).slice(1).map(Number);
  if (year === undefined || year < 1000) {
    return undefined;
  }
  const at =
    kind === "week"
      ? periodOf("week", Date.UTC(year, 0, 4)).plus(n - 1).first
      : Date.UTC(year, (n - 1) * (kind === "quarter" ? 3 : 1), date);
  const period = periodOf(kind, at);
  return String(period) === text ? period : undefined;
}
