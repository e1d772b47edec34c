// Which records somebody has looked at lately: only their ids lie here, what they hold lies in the store.
export interface Seen {
  collection: string
  id: string
}

const most = 6
const place = (worker: string) => `homing-field-recent/${worker}`

export function recent(worker: string): Seen[] {
  try {
    return JSON.parse(localStorage.getItem(place(worker)) ?? '[]') as Seen[]
  } catch {
    return []
  }
}

export function noteSeen(worker: string, one: Seen) {
  try {
    const others = recent(worker).filter(({ id }) => id !== one.id)
    localStorage.setItem(place(worker), JSON.stringify([one, ...others].slice(0, most)))
  } catch {
    // Without storage, nothing is remembered.
  }
}
