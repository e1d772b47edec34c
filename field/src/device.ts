// The device that the app runs on: one store, which all pages of this browser share, and what is to be said about it.
import {
  DeviceError,
  Problem,
  open,
  type BrowserStore,
  type Counts,
  type Draft,
  type Exchanged,
  type Progress,
  type Steered,
  type Summary,
  type Worker as Person,
} from 'homing-device/browser'
import { computed, reactive, shallowRef } from 'vue'
import { locale, t } from '../../faces/words'
import { definition, editable, loadDefinitions, type Definition } from './definitions'
import { metered, settings } from './settings'

/** Where central is: the app lies under it. */
export const central = new URL('..', document.baseURI).href.replace(/\/$/, '')

export const storeName = `field${new URL(central).pathname.replace(/[^a-z0-9]+/gi, '-').replace(/-$/, '')}`
export const worker = new URL(deviceWorker, document.baseURI)

/** What stands between a worker and the records. */
type Phase = 'opening' | 'broken' | 'enrol' | 'signed-out' | 'ready'

interface State {
  phase: Phase
  /** Why the store cannot be opened. */
  broken: string
  worker: string
  people: Person[]
  counts: { [collection: string]: Counts }
  drafts: Draft[]
  /** When central last confirmed what is here, of the collection for which that is longest ago. */
  asOf: string
  /** A collection is older than its definition allows for saving. */
  tooOld: string
  /** The first load is not over. */
  loading: boolean
  online: boolean
  exchanging: Progress | true | undefined
  last: Exchanged | undefined
  /** How central says that this device is to behave. */
  steered: Steered
}

export const device = reactive<State>({
  phase: 'opening',
  broken: '',
  worker: '',
  people: [],
  counts: {},
  drafts: [],
  asOf: '',
  tooOld: '',
  loading: false,
  online: navigator.onLine,
  exchanging: undefined,
  last: undefined,
  steered: { values: {}, at: '', note: '', leastVersion: '' },
})

const opened = shallowRef<BrowserStore>()

/** The open store. It is only asked for by what is shown once it is there. */
export function store(): BrowserStore {
  if (!opened.value) throw new Error('the store is not open yet')
  return opened.value
}

/** Whether whoever is signed in may change records of a collection here, as far as their role says. */
export const mayChange = (of: Definition) =>
  editable(of) && device.people.find((one) => one.signedIn)?.role !== 'reader'

export const unsent = computed(() => Object.values(device.counts).reduce((sum, one) => sum + one.unsent, 0))
export const refused = computed(() => Object.values(device.counts).reduce((sum, one) => sum + one.refused, 0))
export const disputed = computed(() => Object.values(device.counts).reduce((sum, one) => sum + one.disputed, 0))

/** Opens the store of this browser, and goes on to what there is to do. */
export async function start() {
  addEventListener('online', () => {
    device.online = true
    if (following) void store().soon()
  })
  document.addEventListener('visibilitychange', () => {
    if (!document.hidden && following) void store().soon()
  })
  addEventListener('offline', () => (device.online = false))
  try {
    opened.value = await open(storeName, { worker })
  } catch (error) {
    device.broken = explain(error)
    device.phase = 'broken'
    return
  }
  store().listen((changed) => {
    if (changed.missed) void look()
    else later()
    if (!changed.central && !changed.missed) sendSoon()
  })
  try {
    await look()
  } catch (error) {
    device.broken = explain(error)
    device.phase = 'broken'
  }
}

let sending: ReturnType<typeof setTimeout> | undefined
const undoFor = 15_000 // milliseconds: as long as what was saved can be taken back by the notice of it
/** Sends what was saved by itself, once nobody is about to take it back. */
function sendSoon() {
  clearTimeout(sending)
  sending = setTimeout(() => {
    if (following && navigator.onLine) void store().soon()
  }, undoFor)
}

let waiting = false
/** Counts anew soon: many changes come at once in an exchange. */
function later() {
  if (waiting) return
  waiting = true
  setTimeout(() => {
    waiting = false
    void count()
  }, 120)
}

/** Looks at who uses the device, and at what is here for them. */
export async function look() {
  const status = await store().status()
  device.people = status.enrolled ? await store().people() : []
  device.worker = status.worker
  if (!status.enrolled) device.phase = 'enrol'
  else if (!status.worker) device.phase = 'signed-out'
  else {
    await loadDefinitions(store())
    await count()
    device.phase = 'ready'
    follow()
  }
}

/** Counts what is here. */
export async function count() {
  if (!device.worker) return
  try {
    const [counts, holdings, drafts, people, exchanges, status] = await Promise.all([
      store().counts(),
      store().collections(),
      store().drafts(),
      store().people(),
      store().exchanges(),
      store().status(),
    ])
    if (holdings.some((one) => definition(one.name)?.version !== one.version)) await loadDefinitions(store())
    Object.assign(device, { counts, drafts, people, last: exchanges[0], steered: status.settings })
    const loaded = holdings.filter((one) => one.keep !== 'on demand' && one.keep !== 'never' && one.direction !== 'up')
    device.loading = loaded.some((one) => one.pulledAt === null)
    device.asOf = loaded.map((one) => one.pulledAt ?? '').toSorted()[0] ?? ''
    device.tooOld = holdings.find((one) => one.age === 'too old' || one.age === 'old')?.name ?? ''
  } catch (error) {
    if (!(error instanceof DeviceError && error.code === 'signed-out')) throw error
  }
}

const exchanged = (summary: Summary | undefined) => void (summary && count())

/** Whether exchanges that nobody asks for wait for a link that costs nothing: as central says, or else as is set here. */
export const holdsBack = () => (device.steered.values.hold_back as boolean | undefined) ?? settings.holdMetered

let following: AbortController | undefined
/** Exchanges by itself from now on, as the settings say. */
export function follow() {
  if (following || !settings.byItself || (holdsBack() && metered())) return
  const control = new AbortController()
  following = control
  store()
    .repeat({ every: settings.minutes * 60_000, follow: true, tell: exchanged, signal: control.signal })
    .catch(() => undefined) // why it ended shows with the next exchange that is asked for
    .finally(() => {
      if (following === control) following = undefined
    })
  // Whoever opens the app wants to see what there is now.
  setTimeout(() => void (following === control && navigator.onLine && store().soon()), 400)
}

/** Lets [follow] begin anew under other settings. */
export function unfollow() {
  following?.abort()
  following = undefined
}

/** One exchange that somebody asked for. */
export async function exchange(): Promise<Summary> {
  device.exchanging = true
  try {
    const summary = await store().exchange({ watch: (progress) => (device.exchanging = progress) })
    await loadDefinitions(store())
    return summary
  } finally {
    device.exchanging = undefined
    await look().catch(() => undefined)
  }
}

/** What went wrong, in words for whoever holds the device. */
export function explain(error: unknown): string {
  if (error instanceof DeviceError) {
    switch (error.code) {
      case 'unreachable':
        return t(
          'Central cannot be reached from here. What you saved is safe on this device and goes when there is signal.',
        )
      case 'no-storage':
        return t(
          'This browser keeps nothing for this page, so nothing could be saved. A private window, or storage that is not allowed, does that: open the app in an ordinary window.',
        )
      case 'full':
        return t(
          'This device is full: nothing of this was saved. Make room, and save again; what you typed stays here.',
        )
      case 'cleared':
        return t(
          'The browser has cleared what was kept here. Send now what is unsent, which still works, and open the app anew.',
        )
      case 'signed-out':
        return t('Nobody is signed in. Sign in; what you typed is kept for you.')
      case 'secret':
        return t('This is not the PIN.')
      case 'revoked':
        return t('This device was taken off central. It gets nothing more from there; ask whoever looks after central.')
      case 'busy':
        return t('An exchange is running already.')
      case 'clock':
        return t('The clock of this device is wrong. Set it, and save again.')
      case 'slow-down':
        return t('Too many wrong tries in a row: wait {seconds} seconds.', {
          seconds: /(\d+) seconds/.exec(error.message)?.[1] ?? '60',
        })
      case 'short-secret':
        return t('Take at least 4 characters.')
      case 'no-secret':
        return t('Set a PIN first, so that nobody else can sign in as you.')
      case 'nobody':
        return t('They do not use this device. With an enrolment code of their own they can join it.')
      case 'taken':
        return t('There is one already.')
      case 'has-children':
        return t('Other records still belong to this one. Remove them first, or move them to another.')
      case 'no-record':
        return t('This record is not on this device, or no longer.')
      case 'too-old':
        return t('What is here is too old to save on. Exchange first, and save again.')
      case 'generation':
        return t('Central is not the one that this device was enrolled with. Nothing was sent.')
      case 'interrupted':
        return t('The app was closed in the middle. Look whether it was done.')
      case 'not-allowed':
        return t('That may not be done here: {why}', { why: error.message })
      default:
        return error.message
    }
  }
  if (error instanceof Problem) {
    if (error.status === 429 || error.status === 503) return t('Central is busy. Try again in a moment.')
    return error.detail
  }
  return error instanceof Error ? error.message : String(error)
}

/** How long ago something was, in short. */
export function ago(text: string | null | undefined): string {
  if (!text) return t('never')
  const seconds = Math.max((Date.now() - Date.parse(text)) / 1000, 0)
  if (seconds < 60) return t('just now')
  const format = new Intl.RelativeTimeFormat(locale(), { style: 'short', numeric: 'always' })
  if (seconds < 3600) return format.format(-Math.floor(seconds / 60), 'minute')
  if (seconds < 86_400) return format.format(-Math.floor(seconds / 3600), 'hour')
  if (seconds < 30 * 86_400) return format.format(-Math.floor(seconds / 86_400), 'day')
  return new Date(text).toLocaleDateString(locale(), { dateStyle: 'medium' })
}

/** A moment in full. */
export const moment = (text: string) =>
  text ? new Date(text).toLocaleString(locale(), { dateStyle: 'medium', timeStyle: 'short' }) : ''
