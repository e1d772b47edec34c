// What an exchange came to, in words; nothing, when there was nothing new.
import type { Summary } from 'homing-device/browser'
import { tn } from '../../faces/words'

export function told(sum: Summary): { text: string; bad: boolean }[] {
  const { applied, merged, held, refused, waiting, removed, withdrawn } = sum
  const came = sum.received - removed - withdrawn
  const all = [
    { n: applied, text: tn(applied, '{n} change went in|{n} changes went in'), bad: false },
    {
      n: merged,
      text: tn(merged, '{n} was merged with what others did|{n} were merged with what others did'),
      bad: false,
    },
    {
      n: held,
      text: tn(held, '{n} is disputed and waits for a person|{n} are disputed and wait for a person'),
      bad: true,
    },
    { n: refused, text: tn(refused, '{n} was refused|{n} were refused'), bad: true },
    { n: waiting, text: tn(waiting, '{n} waits for another change|{n} wait for another change'), bad: true },
    { n: came, text: tn(came, '{n} record came|{n} records came'), bad: false },
    { n: removed, text: tn(removed, '{n} was removed by others|{n} were removed by others'), bad: false },
    {
      n: withdrawn,
      text: tn(
        withdrawn,
        '{n} is no longer yours to see, and was taken off this device|{n} are no longer yours to see, and were taken off this device',
      ),
      bad: false,
    },
  ]
  return all.filter((one) => one.n > 0)
}
