// What stands in a form and is not saved, as the device keeps it.
import type { DeviceRecord } from 'homing-device/browser'
import { readJSON, writeJSON } from '../../generate/exact'
import type { Half } from '../../faces/half'
import { store } from './device'
import type { Fields } from './values'

export interface FormDraft {
  isNew: boolean
  /** Values that differ from what was there; null where one was taken away. */
  fields: Fields
  /** What stands in boxes and cannot be read yet. */
  half: Half
  /** The parent of a new record, where it was added there. */
  parent: string
  /** What its author saw when the form was opened: for an edit, the record as it was. */
  saw: DeviceRecord | undefined
}

export function readDraft(text: string): FormDraft | undefined {
  try {
    return readJSON<FormDraft>(text)
  } catch {
    return undefined // a later version wrote it
  }
}

/**
 * Keeps the draft of one form. What is typed while something is being kept is kept next, so that the device always has what
 * stood there a moment ago, and never falls behind. Failed hears why it cannot be kept, and nothing once it is.
 */
export function draftKeeper(collection: string, record: string, failed: (error: unknown) => void) {
  let next: { draft: FormDraft | undefined } | undefined
  let running: Promise<void> | undefined
  async function run() {
    while (next) {
      const { draft } = next
      next = undefined
      try {
        if (draft) await store().keepDraft(collection, record, writeJSON(draft))
        else await store().dropDraft(collection, record)
        failed(undefined)
      } catch (error) {
        failed(error)
      }
    }
    running = undefined
  }
  return {
    /** Keeps a draft in place of the one before; without one, that goes. */
    keep(draft?: FormDraft) {
      next = { draft }
      running ??= run()
    },
    /** Resolves once what was typed is on the disk. */
    settled: () => running ?? Promise.resolve(),
  }
}

/** Sets a field of a draft that is kept, such as a reference to a record that was added on the way. */
export async function setInDraft(collection: string, record: string, field: string, value: unknown) {
  const kept = (await store().drafts()).find((one) => one.collection === collection && one.record === record)
  const draft = kept && readDraft(kept.text)
  if (draft)
    await store().keepDraft(collection, record, writeJSON({ ...draft, fields: { ...draft.fields, [field]: value } }))
}
