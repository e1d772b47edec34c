// Periods as people say them.
import { parsePeriod, periodOf, type Period, type PeriodKind } from '../clients/typescript/src/core/period'
import { dayOf } from './moments'
import { locale, t } from './words'

const said = (options: Intl.DateTimeFormatOptions) => new Intl.DateTimeFormat(locale(), { timeZone: 'UTC', ...options })

/** The days of a period, such as 19–25 Oct. */
const daysOf = (p: Period) => said({ day: 'numeric', month: 'short' }).formatRange(p.first, p.last)

/** A period in words; the text as it is where it is none. */
export function sayPeriod(kind: PeriodKind, text: string): string {
  const p = parsePeriod(kind, text)
  if (!p) return text
  const { year, n } = p.numbered
  switch (kind) {
    case 'day':
      return said({
        weekday: 'short',
        day: 'numeric',
        month: 'short',
        year: 'numeric',
      }).format(p.first)
    case 'week':
      return `${t('Week {n}, {year}', { n, year: String(year) })} (${daysOf(p)})`
    case 'month':
      return said({ month: 'long', year: 'numeric' }).format(p.first)
    case 'quarter':
      return t('Quarter {n}, {year}', { n, year: String(year) })
  }
  return text
}

/** A period for the head of a narrow column. */
export function shortPeriod(kind: PeriodKind, text: string): string {
  const p = parsePeriod(kind, text)
  if (!p) return text
  if (kind === 'day') return said({ day: 'numeric', month: 'short' }).format(p.first)
  if (kind === 'month') return said({ month: 'short', year: '2-digit' }).format(p.first)
  if (kind === 'week') return t('W{n}', { n: p.numbered.n })
  return kind === 'quarter' ? t('Q{n}', { n: p.numbered.n }) : text
}

/** A date without a time, in words. */
export const sayDay = (text: string) => said({ day: 'numeric', month: 'short' }).format(new Date(text))

/** The day that it is where somebody looks. */
export const today = () => dayOf(new Date())

const choices = { day: 30, week: 60, month: 36, quarter: 16, year: 12 }

/** What a box for a period offers: the last ones that have begun, the latest first, and what stands there already. */
export function periodChoices(kind: PeriodKind, now: unknown): { value: string; label: string }[] {
  const first = periodOf(kind, Date.parse(today()))
  const all = Array.from({ length: choices[kind] }, (_, n) => String(first.plus(-n)))
  if (typeof now === 'string' && now && !all.includes(now)) all.push(now)
  return all.map((value) => ({ value, label: sayPeriod(kind, value) }))
}
