import { Exact, readJSON, type Numeric } from '../generate/exact'
import { locale, t } from './words'

const quoted = (text: string) => text.replace(/[.*+?^${}()|[\]\\]/g, '\\$&')

/** How the reader's own country writes digits in groups: 1,234,567.8 or 1.234.567,8 or 1 234 567,8. */
function marksOf(language: string | undefined) {
  const parts = new Intl.NumberFormat(language, { useGrouping: true, numberingSystem: 'latn' }).formatToParts(1234567.8)
  const part = (type: string) => parts.find((p) => p.type === type)?.value
  const [decimal, group] = [part('decimal') ?? '.', part('group') ?? '']
  const grouped = group
    ? new RegExp(`^([+-]?\\d{1,3})((?:${quoted(group)}\\d{3})+)(?:${quoted(decimal)}(\\d+))?$`)
    : undefined
  return { decimal, group, grouped }
}
let known: { of: string | undefined; marks: ReturnType<typeof marksOf> } | undefined
function marks() {
  if (known?.of !== locale() || !known) known = { of: locale(), marks: marksOf(locale()) }
  return known.marks
}
const plain = /^([+-]?)(\d+)(?:([.,])(\d+))?([eE][+-]?\d+)?$/

/**
 * Reads a number as people type it, point or comma, to the last digit. What can be read in two ways is asked about, never
 * guessed.
 */
export function readNumber(typed: string): { value?: Numeric; wrong?: string } {
  const { decimal, group, grouped } = marks()
  const text = typed
    .trim()
    .replace(/\u2212/g, '-')
    .replace(/[\u00a0\u202f ]/g, /\s/.test(group) ? group : ' ')
  if (text === '') return {}
  const simple = plain.exec(text)
  if (simple) {
    const [, sign, whole, point, fraction, power] = simple
    if (point && point === group && fraction!.length === 3 && whole!.length <= 3 && whole !== '0' && !power)
      return {
        wrong: t('This can be read in two ways: write {one} or {other}.', {
          one: `${whole}${fraction}`,
          other: `${whole}${decimal}${fraction}`,
        }),
      }
    return { value: numeral(`${sign}${whole}${fraction ? `.${fraction}` : ''}${power ?? ''}`) }
  }
  const inGroups = grouped?.exec(text)
  if (inGroups) {
    const [, first, rest, fraction] = inGroups
    return { value: numeral(`${first}${rest!.split(group).join('')}${fraction ? `.${fraction}` : ''}`) }
  }
  return { wrong: t('This is not a number.') }
}

/** The number that a text of digits says, with all of them. */
function numeral(text: string): Numeric {
  return readJSON<Numeric>(text.replace(/^\+/, '').replace(/^(-?)0+(?=\d)/, '$1'))
}

/** Writes a number for a box in which it can be changed: all digits, in no groups. */
export const writeNumber = (value: unknown) =>
  typeof value === 'number' || value instanceof Exact ? String(value).replace('.', marks().decimal) : ''

/** Whether a number has nothing behind the point. */
export const isWhole = (value: Numeric) =>
  value instanceof Exact ? /^-?\d+$/.test(value.text) : Number.isInteger(value)
