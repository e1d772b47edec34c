// A point as two boxes hold it: both of its numbers or neither.
import { ref, type Ref } from 'vue'
import { useHalf } from './half'
import { readNumber, writeNumber } from './numbers'
import { t } from './words'

/** GeoJSON (RFC 7946), longitude first. */
export interface Point {
  type: 'Point'
  coordinates: unknown[]
}

const kept = (typed?: string) => (typed === undefined ? undefined : readNumber(typed).value)

/**
 * What stands in the boxes for the latitude and the longitude of a point, by the name of the first. One of them alone is half of a
 * draft. A third number, the altitude, stays as it is. Tell hears what is wrong, and an empty text once nothing is.
 */
export function usePoint(name: string, value: Ref<unknown>, tell: (wrong: string) => void) {
  const given = (value.value as Point | undefined)?.coordinates
  const half = { lat: useHalf(name), lon: useHalf(`${name}-lon`) }
  const place = ref<{ lon: unknown; lat: unknown }>({
    lon: given?.[0] ?? kept(half.lon.first),
    lat: given?.[1] ?? kept(half.lat.first),
  })
  const wrong = ref({ lon: '', lat: '' })

  function set(lon: unknown, lat: unknown) {
    place.value = { lon, lat }
    const alone = (lon === undefined) !== (lat === undefined)
    if (!alone) {
      const point: Point = { type: 'Point', coordinates: [lon, lat, ...(given?.slice(2) ?? [])] }
      value.value = lon === undefined ? undefined : point
    }
    for (const which of ['lon', 'lat'] as const) {
      const number = place.value[which]
      if (!wrong.value[which]) half[which].keep(alone && number !== undefined ? writeNumber(number) : undefined)
    }
    say()
  }
  function say() {
    const { lon, lat } = place.value
    const apart = (lon === undefined) !== (lat === undefined) ? t('A place needs both latitude and longitude.') : ''
    tell(wrong.value.lat || wrong.value.lon || apart)
  }
  return {
    place,
    set,
    setLat: (lat: unknown) => set(place.value.lon, lat),
    setLon: (lon: unknown) => set(lon, place.value.lat),
    isWrong(which: 'lon' | 'lat', why: string) {
      wrong.value[which] = why
      say()
    },
  }
}
