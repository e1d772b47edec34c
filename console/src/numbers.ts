import { Exact, readJSON, type Numeric } from '../../generate/exact'

const parts = new Intl.NumberFormat(undefined, { useGrouping: true }).formatToParts(1234567.8)
const part = (type: string) => parts.find((p) => p.type === type)?.value
const decimal = part('decimal') ?? '.'
const group = part('group') ?? ''
const quoted = (text: string) => text.replace(/[.*+?^${}()|[\]\\]/g, '\\$&')

// Digits in groups as the reader's own country writes them: 1,234,567.8 or 1.234.567,8 or 1 234 567,8.
const grouped = group ? new RegExp(`^([+-]?\\d{1,3})((?:${quoted(group)}\\d{3})+)(?:${quoted(decimal)}(\\d+))?$`) : undefined
const plain = /^([+-]?)(\d+)(?:([.,])(\d+))?([eE][+-]?\d+)?$/

/**
 * Reads a number as people type it, point or comma, to the last digit. What can be read in two ways is asked about, never
 * guessed.
 */
export function readNumber(typed: string): { value?: Numeric; wrong?: string } {
  const text = typed
    .trim()
    .replace(/\u2212/g, '-')
    .replace(/[\u00a0\u202f ]/g, /\s/.test(group) ? group : ' ')
  if (text === '') return {}
  const simple = plain.exec(text)
  if (simple) {
    const [, sign, whole, point, fraction, power] = simple
    if (point && point === group && fraction!.length === 3 && whole!.length <= 3 && whole !== '0' && !power)
      return { wrong: `This can be read in two ways: write ${whole}${fraction} or ${whole}${decimal}${fraction}.` }
    return { value: numeral(`${sign}${whole}${fraction ? `.${fraction}` : ''}${power ?? ''}`) }
  }
  const inGroups = grouped?.exec(text)
  if (inGroups) {
    const [, first, rest, fraction] = inGroups
    return { value: numeral(`${first}${rest!.split(group).join('')}${fraction ? `.${fraction}` : ''}`) }
  }
  return { wrong: 'This is not a number.' }
}

/** The number that a text of digits says, with all of them. */
function numeral(text: string): Numeric {
  return readJSON<Numeric>(text.replace(/^\+/, '').replace(/^(-?)0+(?=\d)/, '$1'))
}

/** Writes a number for a box in which it can be changed: all digits, in no groups. */
export const writeNumber = (value: unknown) => (typeof value === 'number' || value instanceof Exact ? String(value).replace('.', decimal) : '')

/** Whether a number has nothing behind the point. */
export const isWhole = (value: Numeric) => (value instanceof Exact ? /^-?\d+$/.test(value.text) : Number.isInteger(value))
