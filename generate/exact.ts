/** A number of more digits than JavaScript's own keep, as it is written. Number(it) gives the nearest, BigInt(it.text) a whole one. */
export class Exact {
  readonly text: string
  constructor(text: string) {
    if (!/^-?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?$/.test(text)) throw new RangeError(`${text} is no number`)
    this.text = text
  }
  valueOf(): number { return Number(this.text) }
  toString(): string { return this.text }
}

export type Numeric = number | Exact

const mark = '\uE000' // stands before what is a number, and before a text that begins with it
const tokens = /"(?:[^"\\]|\\.)*"(\s*:)?|-?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?/g

/** Reads JSON (RFC 8259) as JSON.parse does, but for numbers that would lose digits: those are Exact. */
export function readJSON<T>(text: string): T {
  const marked = text.replace(tokens, (token: string, key?: string) => {
    if (token[0] === '"') return !key && /^"(\uE000|\\ue000)/i.test(token) ? `"${mark}${token.slice(1)}` : token
    return keeps(token) ? token : `"${mark}${token}"`
  })
  return JSON.parse(marked, (_, value: unknown) =>
    typeof value !== 'string' || value[0] !== mark ? value : value[1] === mark ? value.slice(1) : new Exact(value.slice(1)))
}

/** Writes JSON as JSON.stringify does, Exact and bigint with all of their digits. */
export function writeJSON(value: object): string {
  return JSON.stringify(value, (_, one: unknown) =>
    one instanceof Exact ? mark + one.text : typeof one === 'bigint' || typeof one === 'string' && one[0] === mark ? mark + one : one,
  ).replace(tokens, (token: string, key?: string) =>
    key || token[1] !== mark ? token : token[2] === mark ? `"${token.slice(2)}` : token.slice(2, -1))
}

// keeps says whether a number is the same after JavaScript has read it: any of 15 digits is, within its range.
function keeps(token: string): boolean {
  const digits = token.replace(/[eE].*$/, '').replace(/[-.]/g, '').replace(/^0+/, '').length
  return String(Number(token)) === token || digits <= 15 && Number.isFinite(Number(token)) && (digits === 0 || Number(token) !== 0)
}
