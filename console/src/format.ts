import { ref } from 'vue'
import { Exact, writeJSON } from '../../generate/exact'
import type { Field } from './api/client'
import { referenced } from './collections'
import { sayPeriod } from '../../faces/periods'
import { isLine, isPoint, schemaOf } from '../../faces/schema'

const full = new Intl.DateTimeFormat(undefined, { dateStyle: 'medium', timeStyle: 'medium' })
const short = new Intl.DateTimeFormat(undefined, { month: 'short', day: 'numeric', hour: '2-digit', minute: '2-digit' })

export const fullTime = (text?: string) => (text ? full.format(new Date(text)) : 'never')

// Ages on the page grow by themselves.
const now = ref(Date.now())
setInterval(() => (now.value = Date.now()), 10_000)

/** How long ago, in words that fit a table. */
export function ago(text?: string): string {
  if (!text) return 'never'
  const seconds = Math.round((Math.max(now.value, Date.now()) - new Date(text).getTime()) / 1000)
  if (seconds < 5) return 'just now'
  if (seconds < 60) return `${seconds} s ago`
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min ago`
  if (seconds < 86400) return `${Math.floor(seconds / 3600)} h ago`
  return short.format(new Date(text))
}

/** A field's value for people. */
export function shown(field: Field | undefined, value: unknown): string {
  if (value === undefined || value === null) return ''
  if (field?.period && typeof value === 'string') return sayPeriod(field.period, value)
  if (field?.reference && typeof value === 'string') return referenced(field.reference, value)
  const schema = field ? schemaOf(field) : {}
  if (value instanceof Exact) return schema.unit ? `${value.text} ${schema.unit}` : value.text
  // What stands in the history may be of another kind than the field is now.
  const at = (value as { coordinates?: unknown }).coordinates
  if (isPoint(schema) && Array.isArray(at)) return `${Number(at[1]).toFixed(5)}, ${Number(at[0]).toFixed(5)}`
  if (isLine(schema) && Array.isArray(at)) return `line of ${at.length} points`
  if (Array.isArray(value))
    return value.map((item) => (typeof item === 'object' && !(item instanceof Exact) ? writeJSON([item]).slice(1, -1) : String(item))).join(', ')
  if (typeof value === 'boolean') return value ? 'yes' : 'no'
  if (typeof value === 'object') return writeJSON(value)
  return schema.unit ? `${String(value)} ${schema.unit}` : String(value)
}

export const kilobytes = (bytes: number) => (bytes < 1000 ? `${bytes} B` : `${(bytes / 1000).toFixed(1)} kB`)

export function plural(n: number, noun: string): string {
  return `${n.toLocaleString()} ${noun}${n === 1 ? '' : 's'}`
}

/** How a device's clock goes against central's: its offset is what must be added to it. */
export function clock(offset?: number, error?: number): { text: string; wrong: boolean } {
  if (offset === undefined) return { text: '–', wrong: false }
  if (Math.abs(offset) <= (error ?? 0) + 1000) return { text: 'right', wrong: false }
  const minutes = Math.abs(offset) / 60000
  const span = minutes < 1.5 ? `${Math.round(minutes * 60)} s` : minutes < 90 ? `${Math.round(minutes)} min` : `${(minutes / 60).toFixed(1)} h`
  return { text: `${span} ${offset > 0 ? 'behind' : 'ahead'}`, wrong: minutes > 1 }
}

export const megabytes = (bytes: number) => (bytes < 1e6 ? kilobytes(bytes) : bytes < 1e9 ? `${(bytes / 1e6).toFixed(1)} MB` : `${(bytes / 1e9).toFixed(2)} GB`)
