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
 * Gives the key under which a change goes to central: the same for the same change, so that asking again after a lost
 * answer does not make it twice.
 */
export function useKey() {
  let key = ''
  let of = ''
  return {
    keyFor(change: unknown): string {
      const text = JSON.stringify(change)
      if (text !== of || !key) [key, of] = [newID(), text]
      return key
    },
    done() {
      key = ''
    },
  }
}
