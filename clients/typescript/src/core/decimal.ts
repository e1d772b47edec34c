// Exact decimals: what counters add up and numbers are compared by, without a double in between.

/** A number as digits × 10^-scale. */
export interface Decimal {
  digits: bigint;
  scale: number; // never negative
}

/** Reads a canonical JSON number; nothing for anything else. */
export function decimal(text: string): Decimal | undefined {
  const parts = /^(-?[0-9]+)(?:\.([0-9]+))?(?:e(-?[0-9]+))?$/.exec(text);
  if (!parts) {
    return undefined;
  }
  const [, whole = "", fraction = "", exponent = "0"] = parts;
  const shift = fraction.length - Number(exponent);
  const digits = BigInt(whole + fraction);
  return shift >= 0 ? { digits, scale: shift } : { digits: digits * 10n ** BigInt(-shift), scale: 0 };
}

/** Both over the larger scale. */
function level(a: Decimal, b: Decimal): [bigint, bigint, number] {
  const scale = Math.max(a.scale, b.scale);
  return [a.digits * 10n ** BigInt(scale - a.scale), b.digits * 10n ** BigInt(scale - b.scale), scale];
}

export function add(a: Decimal, b: Decimal): Decimal {
  const [x, y, scale] = level(a, b);
  return { digits: x + y, scale };
}

export function negated(a: Decimal): Decimal {
  return { digits: -a.digits, scale: a.scale };
}

export function compare(a: Decimal, b: Decimal): number {
  const [x, y] = level(a, b);
  return x < y ? -1 : x > y ? 1 : 0;
}

/** Whether a is a whole multiple of b. */
export function isMultiple(a: Decimal, b: Decimal): boolean {
  const [x, y] = level(a, b);
  return y !== 0n && x % y === 0n;
}

/** The decimal as a JSON number, not yet in canonical form. */
export function text(a: Decimal): string {
  const sign = a.digits < 0n ? "-" : "";
  const digits = String(a.digits < 0n ? -a.digits : a.digits).padStart(a.scale + 1, "0");
  const whole = digits.slice(0, digits.length - a.scale);
  return a.scale === 0 ? sign + whole : `${sign}${whole}.${digits.slice(digits.length - a.scale)}`;
}
