<script setup lang="ts">
import type { Ask, DeviceRecord, Places } from 'homing-device/browser'
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { locale, t, tn } from '../../../faces/words'
import type { Definition } from '../definitions'
import { explain, store } from '../device'
import { clusters, fit, project, unproject, type View } from '../plan'
import { here, locate } from '../position'
import { distance } from '../values'
import IconSign from './IconSign.vue'
import RecordLine from './RecordLine.vue'

/**
 * Records as points and lines, without any map beneath: what is there without signal. A finger moves it, and so do buttons and
 * keys. With a cross, its middle is what is picked.
 */
const props = defineProps<{
  of: Definition
  field: string
  ask: Ask
  about?: string
  cross?: boolean
  from?: [number, number] | undefined
  line?: [number, number][]
}>()
const emit = defineEmits<{ centre: [at: [number, number]] }>()
const router = useRouter()
const canvas = ref<HTMLCanvasElement>()
const places = ref<Places>({ points: [], lines: [], more: false })
const wrong = ref('')
const chosen = ref<DeviceRecord>()
const view = ref<View>({ lon: 0, lat: 0, scale: 1e-4, width: 300, height: 300 })
let placed = false

const all = computed(() => [
  ...places.value.points.map((one) => one.at),
  ...places.value.lines.flatMap((one) => one.along),
])

async function load() {
  try {
    places.value = await store().places(props.of.collection, props.field, props.ask)
  } catch (error) {
    wrong.value = explain(error)
    return
  }
  if (!placed) {
    placed = true
    const about = props.about && [
      ...places.value.points.filter(({ id }) => id === props.about).map((one) => one.at),
      ...places.value.lines.filter(({ id }) => id === props.about).flatMap((one) => one.along),
    ]
    if (props.from) view.value = { ...view.value, lon: props.from[0], lat: props.from[1], scale: 2 }
    else show(about && about.length ? about : all.value)
  }
  draw()
}
function show(points: [number, number][]) {
  view.value = fit(points, view.value)
}
watch(() => props.ask, load)
watch([view, () => props.line, () => here.position, chosen], () => draw())
watch(view, ({ lon, lat }) => emit('centre', [lon, lat]), { immediate: true })

let pending = 0
function draw() {
  cancelAnimationFrame(pending)
  pending = requestAnimationFrame(paint)
}
const gradeColours = { urgent: '--bad', soon: '--warn', note: '--note', '': '--accent' } as const
function paint() {
  const at = canvas.value
  const pen = at?.getContext('2d')
  if (!at || !pen) return
  const ratio = window.devicePixelRatio || 1
  const { width, height } = view.value
  if (at.width !== width * ratio || at.height !== height * ratio) {
    at.width = width * ratio
    at.height = height * ratio
  }
  const style = getComputedStyle(at)
  const colour = (name: string) => style.getPropertyValue(name)
  pen.setTransform(ratio, 0, 0, ratio, 0, 0)
  pen.fillStyle = colour('--sheet')
  pen.fillRect(0, 0, width, height)
  pen.lineJoin = 'round'
  for (const { id, along, grade } of places.value.lines) {
    pen.strokeStyle = colour(gradeColours[grade])
    pen.lineWidth = id === props.about || id === chosen.value?.id ? 5 : 2.5
    trace(pen, along)
  }
  if (props.line?.length) {
    pen.strokeStyle = colour('--good')
    pen.lineWidth = 4
    trace(pen, props.line)
  }
  pen.textAlign = 'center'
  pen.textBaseline = 'middle'
  pen.font = '600 13px system-ui, sans-serif'
  for (const one of clusters(places.value.points, view.value)) {
    const alone = one.ids.length === 1
    const marked = alone && (one.ids[0] === props.about || one.ids[0] === chosen.value?.id)
    pen.beginPath()
    pen.arc(one.x, one.y, alone ? (marked ? 11 : 8) : 15, 0, 2 * Math.PI)
    pen.fillStyle = colour(gradeColours[one.grade])
    pen.fill()
    pen.lineWidth = 2
    pen.strokeStyle = colour('--sheet')
    pen.stroke()
    if (!alone) {
      pen.fillStyle = colour('--sheet')
      pen.fillText(one.ids.length > 999 ? '999+' : one.ids.length.toLocaleString(locale()), one.x, one.y + 1)
    }
  }
  if (here.position) {
    const { x, y } = project(here.position.at, view.value)
    pen.beginPath()
    pen.arc(x, y, Math.max(here.position.accuracy / view.value.scale, 6), 0, 2 * Math.PI)
    pen.globalAlpha = 0.18
    pen.fillStyle = colour('--note')
    pen.fill()
    pen.globalAlpha = 1
    pen.beginPath()
    pen.arc(x, y, 6, 0, 2 * Math.PI)
    pen.fill()
    pen.strokeStyle = colour('--sheet')
    pen.stroke()
  }
  if (props.cross) {
    pen.strokeStyle = colour('--ink')
    pen.lineWidth = 2
    pen.beginPath()
    pen.moveTo(width / 2 - 16, height / 2)
    pen.lineTo(width / 2 + 16, height / 2)
    pen.moveTo(width / 2, height / 2 - 16)
    pen.lineTo(width / 2, height / 2 + 16)
    pen.stroke()
  }
}
function trace(pen: CanvasRenderingContext2D, along: [number, number][]) {
  pen.beginPath()
  along.forEach((at, n) => {
    const { x, y } = project(at, view.value)
    if (n) pen.lineTo(x, y)
    else pen.moveTo(x, y)
  })
  pen.stroke()
}

// Fingers and pointers: one moves, two or the wheel zoom.
const fingers = new Map<number, { x: number; y: number }>()
let moved = 0
function down(event: PointerEvent) {
  canvas.value?.setPointerCapture(event.pointerId)
  fingers.set(event.pointerId, { x: event.offsetX, y: event.offsetY })
  moved = 0
}
function move(event: PointerEvent) {
  const was = fingers.get(event.pointerId)
  if (!was) return
  const now = { x: event.offsetX, y: event.offsetY }
  moved += Math.hypot(now.x - was.x, now.y - was.y)
  if (fingers.size === 1) pan(was.x - now.x, was.y - now.y)
  else {
    const [other] = [...fingers].filter(([id]) => id !== event.pointerId).map(([, at]) => at)
    if (other)
      zoom(
        Math.hypot(was.x - other.x, was.y - other.y) / Math.max(Math.hypot(now.x - other.x, now.y - other.y), 1),
        now.x,
        now.y,
      )
  }
  fingers.set(event.pointerId, now)
}
function up(event: PointerEvent) {
  fingers.delete(event.pointerId)
  if (moved < 8 && event.type === 'pointerup') void tap(event.offsetX, event.offsetY)
}
function pan(x: number, y: number) {
  const [lon, lat] = unproject({ x: view.value.width / 2 + x, y: view.value.height / 2 + y }, view.value)
  view.value = { ...view.value, lon, lat }
}
const [closest, farthest] = [0.05, 60_000] // metres for a pixel
function zoom(by: number, x = view.value.width / 2, y = view.value.height / 2) {
  const under = unproject({ x, y }, view.value)
  const next = { ...view.value, scale: Math.min(Math.max(view.value.scale * by, closest), farthest) }
  const after = unproject({ x, y }, next)
  view.value = { ...next, lon: next.lon + under[0] - after[0], lat: next.lat + under[1] - after[1] }
}
async function tap(x: number, y: number) {
  if (props.cross) return
  const near = clusters(places.value.points, view.value)
    .map((one) => ({ one, far: Math.hypot(one.x - x, one.y - y) }))
    .filter(({ far }) => far < 24)
    .toSorted((a, b) => a.far - b.far)[0]?.one
  if (!near) chosen.value = undefined
  else if (near.ids.length > 1) zoom(0.4, near.x, near.y)
  else chosen.value = await store().get(props.of.collection, near.ids[0]!)
}
function press(event: KeyboardEvent) {
  const step = 60
  const keys: { [key: string]: () => void } = {
    ArrowLeft: () => pan(-step, 0),
    ArrowRight: () => pan(step, 0),
    ArrowUp: () => pan(0, -step),
    ArrowDown: () => pan(0, step),
    '+': () => zoom(0.7),
    '-': () => zoom(1.4),
  }
  if (!keys[event.key]) return
  event.preventDefault()
  keys[event.key]!()
}
async function toMe() {
  await locate()
  if (here.position)
    view.value = {
      ...view.value,
      lon: here.position.at[0],
      lat: here.position.at[1],
      scale: Math.min(view.value.scale, 10),
    }
}

let resize: ResizeObserver | undefined
let stop = () => {}
onMounted(() => {
  resize = new ResizeObserver(([entry]) => {
    const { width, height } = entry!.contentRect
    if (width && height) view.value = { ...view.value, width, height }
    if (!placed) void load()
  })
  resize.observe(canvas.value!)
  const looks = matchMedia('(prefers-color-scheme: dark)')
  looks.addEventListener('change', draw)
  stop = () => looks.removeEventListener('change', draw)
})
onBeforeUnmount(() => {
  resize?.disconnect()
  stop()
  cancelAnimationFrame(pending)
})
/** A round length that fits into 90 pixels. */
const ruler = computed(() => {
  const most = 90 * view.value.scale
  const power = 10 ** Math.floor(Math.log10(most))
  const metres = [5, 2, 1].map((n) => n * power).find((n) => n <= most) ?? power
  return { width: metres / view.value.scale, text: metres < 950 ? t('{n} m', { n: metres }) : distance(metres) }
})
const nothing = computed(() => placed && all.value.length === 0 && !props.cross)
</script>

<template>
  <div class="map">
    <p v-if="wrong" class="banner bad" role="alert">{{ wrong }}</p>
    <div class="frame">
      <canvas
        ref="canvas"
        tabindex="0"
        role="application"
        :aria-label="
          t('Map: {n} places. The arrow keys move it, plus and minus zoom; the list has the same records.', {
            n: places.points.length + places.lines.length,
          })
        "
        @pointerdown="down"
        @pointermove="move"
        @pointerup="up"
        @pointercancel="up"
        @wheel.prevent="zoom($event.deltaY > 0 ? 1.25 : 0.8, $event.offsetX, $event.offsetY)"
        @keydown="press"
      />
      <div class="tools">
        <button type="button" class="btn" :aria-label="t('Nearer')" @click="zoom(0.5)"><IconSign name="plus" /></button>
        <button type="button" class="btn" :aria-label="t('Farther')" @click="zoom(2)"><IconSign name="minus" /></button>
        <button type="button" class="btn" :aria-label="t('All of them')" @click="show(all)"
          ><IconSign name="all"
        /></button>
        <button type="button" class="btn" :aria-label="t('Where I am')" :disabled="here.looking" @click="toMe"
          ><IconSign name="here"
        /></button>
      </div>
      <span class="ruler" :style="{ width: `${ruler.width}px` }">{{ ruler.text }}</span>
    </div>
    <p v-if="nothing" class="small">{{ t('None of these has a place.') }}</p>
    <p v-if="places.more" class="small">{{
      tn(places.points.length, 'Only the first {n} is shown.|Only the first {n} are shown.')
    }}</p>
    <p v-if="here.wrong" class="small warn" role="alert">{{ here.wrong }}</p>
    <button v-if="chosen" type="button" class="row sheet" @click="router.push(`/records/${of.collection}/${chosen.id}`)"
      ><RecordLine :record="chosen" far /><IconSign name="next"
    /></button>
  </div>
</template>

<style scoped>
.map {
  display: grid;
  gap: 0.5rem;
}
.frame {
  position: relative;
}
canvas {
  display: block;
  width: 100%;
  height: min(56dvh, 620px);
  border: 1px solid var(--edge);
  border-radius: 10px;
  touch-action: none;
  background: var(--sheet);
}
.tools {
  position: absolute;
  inset-inline-end: 8px;
  top: 8px;
  display: grid;
  gap: 8px;
}
.tools .btn {
  padding: 0;
}
.ruler {
  position: absolute;
  inset-inline-start: 12px;
  bottom: 10px;
  border: 2px solid var(--ink);
  border-top: 0;
  font-size: 0.8rem;
  text-align: center;
  white-space: nowrap;
  line-height: 1.1;
  pointer-events: none;
}
</style>
