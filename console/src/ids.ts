import { readJSON, writeJSON } from '../../generate/exact'
import { Problem, type Fields } from './api/client'
import type { OpenDraft, Sent } from './drafts'

/** A UUIDv7 (RFC 9562, section 5.7). */
export function newID(): string {
  const bytes = crypto.getRandomValues(new Uint8Array(16))
  let time = Date.now()
  for (let n = 5; n >= 0; n--) {
    bytes[n] = time % 256
    time = Math.floor(time / 256)
  }
  bytes[6] = (bytes[6]! & 0x0f) | 0x70
  bytes[8] = (bytes[8]! & 0x3f) | 0x80
  const text = [...bytes].map((b) => b.toString(16).padStart(2, '0')).join('')
  return [text.slice(0, 8), text.slice(8, 12), text.slice(12, 16), text.slice(16, 20), text.slice(20)].join('-')
}

/**
 * Sends changes under keys: the same key for the same change, so that sending it again after a lost answer does not make
 * it twice. What was sent of a draft is known to the draft alone, and goes with it.
 */
export function useKey(draft?: () => OpenDraft | undefined) {
  let own: Sent = { key: '', of: '' }
  const sent = () => draft?.()?.sent() ?? own
  function keep(now: Sent) {
    const kept = draft?.()
    if (kept) kept.keepSent(now)
    else own = now
  }
  return {
    /** Whether something was sent, and nobody knows whether it has arrived. */
    waits: () => sent().key !== '',
    /** That, where it is something else than what is to be sent now: it goes first. */
    before<T>(change: T): T | undefined {
      const { key, of } = sent()
      return key && of !== writeJSON([change]) ? readJSON<[T]>(of)[0] : undefined
    },
    async send<T>(change: unknown, call: (key: string) => Promise<T>): Promise<T> {
      const text = writeJSON([change])
      const { key: before, of } = sent()
      const key = before && of === text ? before : newID()
      keep({ key, of: text })
      try {
        const answer = await call(key)
        keep({ key: '', of: '' })
        return answer
      } catch (error) {
        if (error instanceof Problem && error.status > 0 && error.status < 500) keep({ key: '', of: '' }) // it was not taken
        throw error
      }
    },
  }
}

/** What is to be saved now besides what was sent earlier: where both say the same, it is saved. */
export function since(earlier: Fields, now: Fields): Fields {
  const fields: Fields = {}
  for (const name of new Set([...Object.keys(earlier), ...Object.keys(now)])) {
    const value = now[name] ?? null
    if (writeJSON([earlier[name] ?? null]) !== writeJSON([value])) fields[name] = value
  }
  return fields
}
