// Dates and moments as boxes for them hold them.
import { locale } from './words'

const two = (n: number) => String(n).padStart(2, '0')

/** A day as RFC 3339 writes it, in the zone of who looks. */
export const dayOf = (at: Date) =>
  `${String(at.getFullYear()).padStart(4, '0')}-${two(at.getMonth() + 1)}-${two(at.getDate())}`

/** A moment as a box of the browser's has it: in the zone of who looks, without that. Empty where there is none. */
export function localOf(text: unknown): string {
  if (typeof text !== 'string' || !text) return ''
  const at = new Date(text)
  if (Number.isNaN(at.getTime())) return ''
  return `${dayOf(at)}T${two(at.getHours())}:${two(at.getMinutes())}:${two(at.getSeconds())}`
}

/** Browsers leave out seconds that are 0. */
export const withSeconds = (local: string) => (local.length === 16 ? `${local}:00` : local)

/** The moment with the offset of this zone then (RFC 3339). */
export function momentOf(local: string): string {
  const at = new Date(local)
  const minutes = -at.getTimezoneOffset()
  const offset =
    minutes === 0
      ? 'Z'
      : `${minutes < 0 ? '-' : '+'}${two(Math.floor(Math.abs(minutes) / 60))}:${two(Math.abs(minutes) % 60)}`
  return withSeconds(local) + offset
}

/** The zone of who looks, in short. */
export const zone = () =>
  new Intl.DateTimeFormat(locale(), { timeZoneName: 'short' })
    .formatToParts(new Date())
    .find((part) => part.type === 'timeZoneName')?.value
