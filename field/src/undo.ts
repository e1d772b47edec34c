// The way back from what was just saved.
import { explain, store } from './device'
import { say } from './notices'
import { t } from '../../faces/words'

/** Takes back what was saved of several records at once, as far as it has not left the device. */
export async function takeBackAll(numbers: number[]) {
  const here = new Set((await store().review()).map((one) => one.number))
  const left = numbers.filter((number) => here.has(number))
  try {
    if (left.length) await store().takeBack(left)
    if (left.length === numbers.length) say(t('Taken back.'))
    else say(t('It has gone to central already. Edit the record again, and send that.'), { bad: true })
  } catch (error) {
    say(explain(error), { bad: true })
  }
}

/** Takes back what was saved last of a record, while it has not left the device. */
export async function takeBackLast(collection: string, record: string) {
  const own = (await store().review()).filter((one) => one.record === record && one.collection === collection)
  const last = own.at(-1)
  if (!last) {
    say(t('It has gone to central already. Edit the record again, and send that.'), { bad: true })
    return
  }
  try {
    await store().takeBack(last.number)
    say(t('Taken back.'))
  } catch (error) {
    say(explain(error), { bad: true })
  }
}
