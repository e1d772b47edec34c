// Where the device is, as far as it says.
import { reactive } from 'vue'
import { t } from '../../faces/words'

export interface Position {
  at: [number, number] // longitude, latitude
  accuracy: number // metres
  taken: number // milliseconds since 1970
}

export const here = reactive<{ position: Position | undefined; wrong: string; looking: boolean }>({
  position: undefined,
  wrong: '',
  looking: false,
})

/** What a position is good enough for, in metres, and what may be another valley. */
export const fine = 30
export const rough = 500

const patience = 20_000

function explain(error: GeolocationPositionError): string {
  if (error.code === error.PERMISSION_DENIED)
    return t(
      'This browser does not tell the app where it is. Allow it in the settings of the browser, or pick the place on the map.',
    )
  if (error.code === error.TIMEOUT) return t('No position within 20 seconds. Under open sky it goes faster.')
  return t('This device does not know where it is now.')
}

const read = ({ coords, timestamp }: GeolocationPosition): Position => ({
  at: [coords.longitude, coords.latitude],
  accuracy: coords.accuracy,
  taken: timestamp,
})

/** Looks for a position until it is fine, or for 20 seconds: then the best of them counts. */
export function locate(): Promise<Position | undefined> {
  if (!navigator.geolocation) {
    here.wrong = t('This device does not know where it is now.')
    return Promise.resolve(undefined)
  }
  here.looking = true
  here.wrong = ''
  return new Promise((resolve) => {
    let best: Position | undefined
    const end = () => {
      navigator.geolocation.clearWatch(watch)
      clearTimeout(timer)
      here.looking = false
      resolve(best)
    }
    const timer = setTimeout(end, patience)
    const watch = navigator.geolocation.watchPosition(
      (found) => {
        const one = read(found)
        here.position = one
        if (!best || one.accuracy <= best.accuracy) best = one
        if (one.accuracy <= fine) end()
      },
      (error) => {
        here.wrong = explain(error)
        if (!best) end()
      },
      { enableHighAccuracy: true, timeout: patience, maximumAge: 5_000 },
    )
  })
}

/** Follows the device while somebody walks, until it is told to end. */
export function follow(each: (position: Position) => void): () => void {
  const watch = navigator.geolocation?.watchPosition(
    (found) => {
      here.position = read(found)
      each(here.position)
    },
    (error) => (here.wrong = explain(error)),
    { enableHighAccuracy: true, maximumAge: 0 },
  )
  return () => navigator.geolocation?.clearWatch(watch)
}
