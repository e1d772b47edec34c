import { onUnmounted, ref } from 'vue'
import { api, ask } from './api/client'

type Listener = (collections: string[]) => void
const heads = new Set<Listener>()
const devices = new Set<() => void>()
export type Liveness = 'off' | 'live' | 'lost'
const state = ref<Liveness>('off')
let source: EventSource | undefined

/** Opens the stream of live events. The browser reconnects by itself; after a gap everybody looks anew. */
export function startLive() {
  stopLive()
  source = new EventSource('/v1/events')
  source.addEventListener('open', () => {
    const lost = state.value === 'lost'
    state.value = 'live'
    if (lost) {
      heads.forEach((tell) => tell([]))
      devices.forEach((tell) => tell())
    }
  })
  source.addEventListener('error', () => {
    state.value = 'lost'
    // A stream that central refused for good is not reopened by the browser: mostly since the session has ended, which this tells.
    if (source?.readyState !== EventSource.CLOSED) return
    ask(api.GET('/v1/session')).catch(() => undefined)
    setTimeout(() => source && startLive(), 3000)
  })
  source.addEventListener('heads', (event) => {
    const names = Object.keys(JSON.parse((event as MessageEvent<string>).data) as Record<string, number>)
    heads.forEach((tell) => tell(names))
  })
  source.addEventListener('devices', () => devices.forEach((tell) => tell()))
}

export function stopLive() {
  source?.close()
  source = undefined
  state.value = 'off'
}

/** Whether the stream is open. */
export function useLiveness() {
  return state
}

/** Calls back when one of the collections has moved; without names, when any may have. */
export function useHeads(listener: Listener) {
  heads.add(listener)
  onUnmounted(() => heads.delete(listener))
}

/** Calls back when a device did something. */
export function useDeviceEvents(listener: () => void) {
  devices.add(listener)
  onUnmounted(() => devices.delete(listener))
}
