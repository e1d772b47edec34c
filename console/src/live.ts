import { onUnmounted, ref } from 'vue'
import { api, ask } from './api/client'

type Listener = (collections: string[]) => void
const heads = new Set<Listener>()
const devices = new Set<() => void>()
export type Liveness = 'off' | 'live' | 'lost'
const state = ref<Liveness>('off')

/** What the tabs of one browser tell each other. */
type Word = { state: Liveness } | { moved: string[] | 'any' } | { devices: true } | { who: true } | { session: true }
const others = typeof BroadcastChannel === 'undefined' ? undefined : new BroadcastChannel('homing')

let source: EventSource | undefined
let end: AbortController | undefined
let onSession = () => {}

/** Calls back when another tab has signed in or out. */
export function whenSessionMoves(listener: () => void) {
  onSession = listener
}
/** Tells the other tabs that this one has signed in or out. */
export const sessionMoved = () => tell({ session: true })

function say(word: Word) {
  others?.postMessage(word) // oxlint-disable-line unicorn/require-post-message-target-origin -- a channel has none
}
function tell(word: Word) {
  say(word)
  hear(word)
}

others?.addEventListener('message', (event: MessageEvent<Word>) => {
  const word = event.data
  if ('session' in word) onSession()
  else if (!('who' in word)) hear(word)
  else if (source) say({ state: state.value })
})

function hear(word: Word) {
  if ('state' in word) state.value = word.state
  else if ('moved' in word) note(word.moved === 'any' ? [] : word.moved, word.moved === 'any')
  else if ('devices' in word) note([], false, true)
}

// News is passed on at most a few times a second, and in a tab that nobody looks at when somebody does.
const news = { any: false, collections: new Set<string>(), devices: false }
let waiting: ReturnType<typeof setTimeout> | undefined
function note(collections: string[], any: boolean, device = false) {
  collections.forEach((name) => news.collections.add(name))
  news.any ||= any
  news.devices ||= device || any
  if (!document.hidden) waiting ??= setTimeout(pass, 150)
}
function pass() {
  waiting = undefined
  const { any, devices: theirs } = news
  const names = [...news.collections]
  news.collections.clear()
  news.any = news.devices = false
  if (any || names.length) heads.forEach((listener) => listener(any ? [] : names))
  if (theirs) devices.forEach((listener) => listener())
}
document.addEventListener('visibilitychange', () => {
  if (!document.hidden && end) pass()
})

/**
 * Listens to live events. Browsers allow few connections to one host, so the tabs of one browser share a stream: whoever
 * holds the lock has it, and passes on what it says. Where there are no locks, without TLS, only a tab that is looked at
 * has one. The browser reconnects by itself; after a gap everybody looks anew.
 */
export function startLive() {
  stopLive()
  const mine = (end = new AbortController())
  if (navigator.locks && others) {
    say({ who: true })
    navigator.locks.request('homing-live', { signal: mine.signal }, () => hold(mine.signal)).catch(() => undefined) // given up before it was had
    return
  }
  const look = () => {
    if (document.hidden) close()
    else if (!source) listen(mine.signal)
  }
  document.addEventListener('visibilitychange', look, { signal: mine.signal })
  look()
}

const hold = (signal: AbortSignal) =>
  new Promise<void>((leave) => {
    if (signal.aborted) return leave()
    signal.addEventListener('abort', () => leave())
    listen(signal)
  })

let heard = false // whether there was a stream before, here or in another tab
function listen(signal: AbortSignal) {
  source = new EventSource('/v1/events')
  heard ||= state.value !== 'off'
  source.addEventListener('open', () => {
    tell({ state: 'live' })
    if (heard) tell({ moved: 'any' })
    heard = true
  })
  source.addEventListener('error', () => {
    tell({ state: 'lost' })
    // A stream that central refused for good is not reopened by the browser: mostly since the session has ended, which this tells.
    if (source?.readyState !== EventSource.CLOSED) return
    ask(api.GET('/v1/session')).catch(() => undefined)
    setTimeout(() => {
      if (signal.aborted || source?.readyState !== EventSource.CLOSED) return
      listen(signal)
    }, 3000)
  })
  source.addEventListener('heads', (event) => tell({ moved: Object.keys(JSON.parse((event as MessageEvent<string>).data) as Record<string, number>) }))
  source.addEventListener('devices', () => tell({ devices: true }))
}

function close() {
  source?.close()
  source = undefined
}

export function stopLive() {
  end?.abort()
  end = undefined
  close()
  state.value = 'off'
}

/** Whether the stream is open. */
export function useLiveness() {
  return state
}

/** Calls back when some collections have moved; without names, when any may have. */
export function useHeads(listener: Listener) {
  heads.add(listener)
  onUnmounted(() => heads.delete(listener))
}

/** Calls back when a device did something. */
export function useDeviceEvents(listener: () => void) {
  devices.add(listener)
  onUnmounted(() => devices.delete(listener))
}
