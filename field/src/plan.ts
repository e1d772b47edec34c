// How places come onto a plane: Mercator's projection on a sphere, as far as a screen shows of it.
import type { Grade } from 'homing-device/browser'

/** What is seen: the middle, and how many metres there are to a pixel in it. */
export interface View {
  lon: number
  lat: number
  scale: number
  width: number
  height: number
}

const metresToADegree = 111_319.49
const rad = Math.PI / 180
const steepest = 85 // degrees; beyond it Mercator has no end

const mercator = (lat: number) =>
  Math.log(Math.tan(Math.PI / 4 + (Math.max(Math.min(lat, steepest), -steepest) * rad) / 2)) / rad

/** Pixels for a degree of longitude: the scale holds in the middle of the view. */
const pixels = (view: View) =>
  (metresToADegree * Math.cos(Math.max(Math.min(view.lat, steepest), -steepest) * rad)) / view.scale

export function project(at: [number, number], view: View): { x: number; y: number } {
  const k = pixels(view)
  return { x: view.width / 2 + (at[0] - view.lon) * k, y: view.height / 2 - (mercator(at[1]) - mercator(view.lat)) * k }
}

export function unproject({ x, y }: { x: number; y: number }, view: View): [number, number] {
  const k = pixels(view)
  const north = mercator(view.lat) - (y - view.height / 2) / k
  return [view.lon + (x - view.width / 2) / k, (2 * Math.atan(Math.exp(north * rad)) - Math.PI / 2) / rad]
}

/** The view that shows all of some places, with room around them. */
export function fit(points: [number, number][], view: View): View {
  if (points.length === 0) return view
  const lons = points.map(([lon]) => lon)
  const lats = points.map(([, lat]) => lat)
  const bounds = [lons, lats].map((all) =>
    all.reduce(([least, most], one) => [Math.min(least, one), Math.max(most, one)] as [number, number], [
      Infinity,
      -Infinity,
    ] as [number, number]),
  )
  const [[west, east], [south, north]] = bounds as [[number, number], [number, number]]
  const middle = { ...view, lon: (west + east) / 2, lat: (south + north) / 2 }
  const shrunk = Math.cos(Math.max(Math.min(middle.lat, steepest), -steepest) * rad)
  const wide = ((east - west) * metresToADegree * shrunk) / Math.max(view.width - 80, 40)
  const high = ((north - south) * metresToADegree) / Math.max(view.height - 80, 40)
  return { ...middle, scale: Math.max(wide, high, 0.5) }
}

export interface Cluster {
  x: number
  y: number
  ids: string[]
  grade: Grade | ''
}

const cell = 42 // pixels: what lies closer cannot be told apart by a finger
const touching = 30 // pixels: about the size of a cluster as it is drawn
const order = ['urgent', 'soon', 'note', '']

/** Points that lie close together on the screen, as one: it has the gravest grade among them. */
export function clusters(points: { id: string; at: [number, number]; grade: Grade | '' }[], view: View): Cluster[] {
  const cells = new Map<string, Cluster>()
  for (const { id, at, grade } of points) {
    const { x, y } = project(at, view)
    if (x < -cell || y < -cell || x > view.width + cell || y > view.height + cell) continue
    const key = `${Math.floor(x / cell)} ${Math.floor(y / cell)}`
    const known = cells.get(key)
    if (!known) {
      cells.set(key, { x, y, ids: [id], grade })
      continue
    }
    const n = known.ids.push(id)
    known.x += (x - known.x) / n
    known.y += (y - known.y) / n
    if (order.indexOf(grade) < order.indexOf(known.grade)) known.grade = grade
  }
  // What fell into two cells and lies close all the same becomes one.
  const apart: Cluster[] = []
  for (const one of [...cells.values()].toSorted((a, b) => b.ids.length - a.ids.length)) {
    const near = apart.find((other) => Math.hypot(other.x - one.x, other.y - one.y) < touching)
    if (!near) apart.push(one)
    else {
      near.ids.push(...one.ids)
      if (order.indexOf(one.grade) < order.indexOf(near.grade)) near.grade = one.grade
    }
  }
  return apart
}
