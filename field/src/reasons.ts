// Why something does not fit, in the language that is spoken. Central and the device say it in English; what they say most is
// known here by its form.
import type { Reason } from 'homing-device/browser'
import { t } from '../../faces/words'

const forms: [RegExp, (a: string, b: string) => string][] = [
  [/^must be at least (\S+), is (\S+)$/, (a, b) => t('must be at least {a}, is {b}', { a, b })],
  [/^must be at most (\S+), is (\S+)$/, (a, b) => t('must be at most {a}, is {b}', { a, b })],
  [
    /^must have at least (\d+) characters, has (\d+)$/,
    (a, b) => t('must have at least {a} characters, has {b}', { a, b }),
  ],
  [
    /^must have at most (\d+) characters, has (\d+)$/,
    (a, b) => t('must have at most {a} characters, has {b}', { a, b }),
  ],
  [/^must not be empty$/, () => t('must not be empty')],
  [/^"?(.*?)"? does not fit the pattern (.*)$/, (a, b) => t('“{a}” does not have the right form ({b})', { a, b })],
  [/^(.*) \([0-9a-f-]{36}\) has it already; take another$/, (a) => t('{a} has it already; take another', { a })],
  [
    /^(.*) \([0-9a-f-]{36}\) is for this place and period already.*$/,
    (a) => t('There is one for this already: {a}', { a }),
  ],
  [/^"(.*)" is no \w+/, (a) => t('“{a}” is no such period.', { a })],
]

export function why(reason: Reason): string {
  if (reason.code === 'missing') return t('A value is required.')
  if (reason.code === 'not-asked') return t('It is not asked for here; take the value out.')
  if (reason.code === 'complete') return t('The record is complete. Open it again first.')
  for (const [form, say] of forms) {
    const parts = form.exec(reason.message)
    if (parts) return say(parts[1] ?? '', parts[2] ?? '')
  }
  return reason.message
}
