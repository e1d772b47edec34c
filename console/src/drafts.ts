import { ref } from 'vue'
import { readJSON, writeJSON } from '../../generate/exact'
import type { Fields } from './api/client'
import { useSession } from './session'

/** What was typed into a form and not saved. It is kept in this browser, for whoever typed it, and is never sent by itself. */
export interface Draft {
  fields: Fields // what differs from what is saved; null where a value was taken away
  half: Record<string, string> // what stands in boxes and cannot be read yet
  at: string // when something was typed last
  base: number // the revision that was on the screen; 0 of a record that is new
  id: string // of a record that is new
  key: string // under which it went to central, if it did, and nobody knows whether it arrived
  of: string // what went under that key
}

/** What went to central under a key, while nobody knows whether it has arrived; empty otherwise. */
export type Sent = Pick<Draft, 'key' | 'of'>

const nothing = { fields: {}, half: {}, at: '', base: 0, id: '', key: '', of: '' }

/** Where the draft of a form is kept: one for each record, and one for a new record of each collection or parent. */
export const placeOf = (collection: string, record: string) => `homing-draft/${useSession().session.value?.worker}/${collection}/${record}`

const written = ref(0) // so that what shows whether there is a draft shows it anew
/** Whether there is a draft that nobody has thrown away. */
export const drafted = (collection: string, record: string) => written.value >= 0 && readDraft(placeOf(collection, record)) !== undefined

function readDraft(place: string): Draft | undefined {
  try {
    const text = localStorage.getItem(place)
    return text ? { ...nothing, ...readJSON<Draft>(text) } : undefined
  } catch {
    return undefined // this browser keeps nothing, or something else wrote there
  }
}

/** Keeps the draft of an open form, beginning with what the form is about, and what of it went to central with no word yet. */
export function openDraft(place: string, about: Partial<Draft>) {
  const first = readDraft(place)
  const empty = { ...nothing, ...about }
  let now = first
  function write() {
    written.value++
    try {
      if (now) localStorage.setItem(place, writeJSON(now))
      else localStorage.removeItem(place)
    } catch {
      // There is no room or no storage: the form itself still holds what was typed.
    }
  }
  return {
    /** What was there when the form opened. */
    first,
    keep(part: Partial<Draft>) {
      now = { ...empty, ...now, ...part }
      write()
    },
    drop() {
      now = undefined
      write()
    },
    sent: (): Sent => ({ key: now?.key ?? '', of: now?.of ?? '' }),
    keepSent(sent: Sent) {
      if (now) this.keep(sent) // only of a form in which something was typed, anything is sent
    },
  }
}
export type OpenDraft = ReturnType<typeof openDraft>
