// Values on their way between the store and the page, and as people read them.
import { Exact as Kept, type DeviceRecord, type Values } from 'homing-device/browser'
import { reactive } from 'vue'
import { Exact, writeJSON } from '../../generate/exact'
import { isLine, isPoint, schemaOf } from '../../faces/schema'
import { sayPeriod } from '../../faces/periods'
import { locale, t, tn } from '../../faces/words'
import { choiceTitle, definition, fieldOf, type Definition, type Field } from './definitions'
import { store } from './device'

export type Fields = Record<string, unknown>

/** A value of the store as forms have it. No digit of a number is lost on the way. */
export function fromStore(value: unknown): unknown {
  if (value instanceof Kept) return new Exact(value.text)
  if (Array.isArray(value)) return value.map(fromStore)
  if (typeof value === 'object' && value !== null)
    return Object.fromEntries(Object.entries(value).map(([name, one]) => [name, fromStore(one)]))
  return value
}

/** A value of a form as the store takes it. */
export function toStore(value: unknown): Values[string] {
  if (value instanceof Exact) return new Kept(value.text)
  if (Array.isArray(value)) return value.map(toStore)
  if (typeof value === 'object' && value !== null)
    return Object.fromEntries(Object.entries(value).map(([name, one]) => [name, toStore(one)]))
  return (value ?? null) as Values[string]
}

/** The values of a form by field, as the store takes them. */
export const valuesOf = (fields: Fields) => toStore(fields) as Values

export const sameValue = (one: unknown, other: unknown) => writeJSON([one ?? null]) === writeJSON([other ?? null])

const labels = reactive<Record<string, string>>({})
const asked = new Set<string>()

/** What a record that a field refers to is called; a part of its id until that is known. */
export function called(collection: string, id: string): string {
  const key = `${collection}/${id}`
  if (!asked.has(key)) {
    asked.add(key)
    store()
      .get(collection, id)
      .then((record) => (labels[key] = record.label || t('without a name')))
      .catch(() => (labels[key] = t('not on this device (…{end})', { end: id.slice(-6) })))
  }
  return labels[key] ?? '…'
}

/** What a record is called: the one for a place and a period by these, any other by its label. */
export function nameOf(record: { collection: string; label: string; fields?: Fields }): string {
  const { place, period } = definition(record.collection)?.coverage ?? {}
  const of = definition(record.collection)
  const [where, when] = [place, period].map((name) =>
    name && record.fields?.[name] !== undefined ? shown(of, name, record.fields[name]) : '',
  )
  return (where && when && `${where}, ${when}`) || record.label || t('without a name')
}

/** Forgets what records are called, so that it is asked for anew when it is next shown. */
export function forgetLabels() {
  asked.clear()
}

const coordinate = (n: unknown) =>
  Number(n).toLocaleString(locale(), { minimumFractionDigits: 5, maximumFractionDigits: 5 })

/** A value for people. */
export function shown(of: Definition | undefined, name: string, value: unknown): string {
  const field = of && fieldOf(of, name.split('/')[0]!)
  if (value === undefined || value === null) return ''
  if (field?.reference && typeof value === 'string') return called(field.reference, value)
  if (field?.period && typeof value === 'string') return sayPeriod(field.period, value)
  const schema = field && !name.includes('/') ? schemaOf(field) : {}
  if (schema.enum) return choiceTitle(of, name, value)
  if (typeof value === 'number' || value instanceof Exact || value instanceof Kept)
    return withUnit(number(value), schema.unit)
  if (typeof value === 'boolean') return value ? t('yes') : t('no')
  if (typeof value === 'string') {
    if (schema.format === 'date' && /^\d{4}-\d\d-\d\d$/.test(value)) return date(value)
    if (schema.format === 'date-time' && !Number.isNaN(Date.parse(value)))
      return new Date(value).toLocaleString(locale(), { dateStyle: 'medium', timeStyle: 'short' })
    return withUnit(value, schema.unit)
  }
  const at = (value as { coordinates?: unknown }).coordinates
  if (isPoint(schema) && Array.isArray(at)) return `${coordinate(at[1])}, ${coordinate(at[0])}`
  if (isLine(schema) && Array.isArray(at)) return tn(at.length, 'a line of {n} point|a line of {n} points')
  if (Array.isArray(value))
    return value.map((one) => (typeof one === 'object' ? parts(field, one) : shown(of, `${name}/`, one))).join(', ')
  return parts(field, value)
}

/** All digits of a number, in groups as they are read here. */
function number(value: number | Exact | Kept): string {
  const text = String(value)
  if (/[eE]/.test(text)) return text
  const [whole = '', fraction] = text.split('.')
  const [sign, digits] = whole.startsWith('-') ? ['-', whole.slice(1)] : ['', whole]
  const point = (1.1).toLocaleString(locale(), { numberingSystem: 'latn' }).charAt(1)
  return (
    sign +
    BigInt(digits).toLocaleString(locale(), { useGrouping: digits.length > 4 }) +
    (fraction === undefined ? '' : point + fraction)
  )
}

const withUnit = (text: string, unit: string | undefined) => (unit ? `${text} ${unit}` : text)

const date = (text: string) => new Date(`${text}T12:00:00`).toLocaleDateString(locale(), { dateStyle: 'medium' })

function parts(field: Field | undefined, value: unknown): string {
  const schema = field ? schemaOf(field) : {}
  const titles = schema.properties ?? schema.items?.properties ?? {}
  return Object.entries((fromStore(value) ?? {}) as Fields)
    .map(
      ([name, one]) =>
        `${titles[name]?.title ?? name.replaceAll('_', ' ')}: ${typeof one === 'object' && !(one instanceof Exact) ? writeJSON([one]).slice(1, -1) : String(one)}`,
    )
    .join('; ')
}

/** How far a place is from here, in metres, and in which direction (degrees from north), on a sphere (haversine). */
export function way(from: [number, number], to: [number, number]): { metres: number; degrees: number } {
  const rad = Math.PI / 180
  const [lon1, lat1, lon2, lat2] = [from[0] * rad, from[1] * rad, to[0] * rad, to[1] * rad]
  const h = Math.sin((lat2 - lat1) / 2) ** 2 + Math.cos(lat1) * Math.cos(lat2) * Math.sin((lon2 - lon1) / 2) ** 2
  const degrees =
    Math.atan2(
      Math.sin(lon2 - lon1) * Math.cos(lat2),
      Math.cos(lat1) * Math.sin(lat2) - Math.sin(lat1) * Math.cos(lat2) * Math.cos(lon2 - lon1),
    ) / rad
  return { metres: 2 * 6_371_008.8 * Math.asin(Math.min(Math.sqrt(h), 1)), degrees: (degrees + 360) % 360 }
}

/** A distance in words. */
export function distance(metres: number): string {
  if (metres < 950) return t('{n} m', { n: (Math.round(metres / 10) * 10).toLocaleString(locale()) })
  return t('{n} km', { n: (metres / 1000).toLocaleString(locale(), { maximumFractionDigits: metres < 9500 ? 1 : 0 }) })
}

/** One of eight directions. */
export function direction(degrees: number): string {
  const names = [
    t('north'),
    t('north-east'),
    t('east'),
    t('south-east'),
    t('south'),
    t('south-west'),
    t('west'),
    t('north-west'),
  ]
  return names[Math.round(degrees / 45) % 8]!
}

/** Where a record is: its point, or where its line begins. */
export function placeOf(
  of: Definition | undefined,
  field: string | undefined,
  record: DeviceRecord,
): [number, number] | undefined {
  const at = of && field ? (record.fields[field] as { coordinates?: unknown[] } | undefined)?.coordinates : undefined
  const first = Array.isArray(at?.[0]) ? (at[0] as unknown[]) : at
  return first && first.length > 1 ? [Number(first[0]), Number(first[1])] : undefined
}
