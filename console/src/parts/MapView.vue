<script setup lang="ts">
import L from 'leaflet'
import 'leaflet/dist/leaflet.css'
import Button from 'primevue/button'
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask, type Overview, type RecordRow } from '../api/client'
import { fieldsOf, labelOf } from '../collections'
import { isLine, isPoint, schemaOf } from '../../../faces/schema'

/** The places of the records that a list is of, on a plain ground: what lies where, without a map behind it. */
const props = defineProps<{ collection: Overview; query: Record<string, unknown> }>()
const emit = defineEmits<{ area: [within: string] }>()
const most = 5000
const router = useRouter()
const box = ref<HTMLElement>()
const count = ref(0)
const more = ref(false)
const problem = ref('')
const busy = ref(true)

const placed = computed(() => (props.collection.fields ?? []).filter((f) => isPoint(schemaOf(f)) || isLine(schemaOf(f))))
const pointField = computed(() => placed.value.find((f) => isPoint(schemaOf(f))))

let map: L.Map | undefined
const shapes = L.featureGroup()
const tones = { urgent: '--bad', soon: '--warn', note: '--faint' }
const colour = (record: RecordRow) =>
  getComputedStyle(document.documentElement)
    .getPropertyValue(record.attention ? tones[record.attention.grade] : '--accent')
    .trim() || '#a4501c'

/** GeoJSON has the longitude first, Leaflet the latitude. */
const turn = (at: unknown): [number, number] | undefined => (Array.isArray(at) && at.length > 1 ? [Number(at[1]), Number(at[0])] : undefined)

function draw(record: RecordRow) {
  const fields = fieldsOf(record)
  for (const f of placed.value) {
    const at = (fields[f.name] as { coordinates?: unknown[] } | undefined)?.coordinates
    if (!Array.isArray(at)) continue
    const style = { color: colour(record), weight: 2, radius: 5, fillOpacity: 0.55 }
    let shape: L.Path | undefined
    if (isPoint(schemaOf(f))) {
      const point = turn(at)
      if (point) shape = L.circleMarker(point, style)
    } else {
      const line = at.map(turn).filter((p) => p !== undefined)
      if (line.length > 1) shape = L.polyline(line, { ...style, weight: 3 })
    }
    if (!shape) continue
    const label = document.createElement('span')
    label.textContent = labelOf(props.collection, fields) // never as markup
    shape.bindTooltip(label)
    shape.on('click', () => router.push({ name: 'record', params: { collection: props.collection.collection, id: record.id } }))
    shapes.addLayer(shape)
    count.value++
  }
}

let latest = 0
async function load(fit: boolean) {
  const mine = ++latest
  busy.value = true
  problem.value = ''
  shapes.clearLayers()
  count.value = 0
  let after: string | undefined
  let seen = 0
  try {
    for (;;) {
      const { sort: _, ...query } = props.query
      const params = { path: { collection: props.collection.collection }, query: { ...query, limit: 1000, after } }
      const page = await ask(api.GET('/v1/records/{collection}', { params }))
      if (mine !== latest || !map) return
      const records = page.records ?? []
      records.forEach(draw)
      seen += records.length
      more.value = records.length === 1000 && seen >= most
      if (records.length < 1000 || more.value) break
      after = records.at(-1)!.id
    }
  } catch (error) {
    problem.value = (error as Error).message
  }
  if (mine !== latest) return
  busy.value = false
  if (fit && count.value) map?.fitBounds(shapes.getBounds().pad(0.05), { maxZoom: 15 })
}
const side = (degrees: number) => String(Math.round(degrees * 1e5) / 1e5)
function onlyThis() {
  const b = map?.getBounds()
  if (!b || !pointField.value) return
  emit('area', `${pointField.value.name}:${side(b.getWest())},${side(b.getSouth())},${side(b.getEast())},${side(b.getNorth())}`)
}

onMounted(() => {
  map = L.map(box.value!, { preferCanvas: true, attributionControl: false, zoomControl: true, zoomSnap: 0.25 }).setView([0, 0], 2)
  L.control.scale({ imperial: false }).addTo(map)
  shapes.addTo(map)
  load(true)
})
onBeforeUnmount(() => {
  map?.remove()
  map = undefined
})
watch(
  () => JSON.stringify(props.query),
  () => load(true),
)
defineExpose({ reload: () => load(false) })
</script>

<template>
  <div class="map">
    <div ref="box" class="ground" role="application" :aria-label="`${collection.title} by place; the table shows the same`" />
    <p class="below">
      <span role="status">{{ busy ? 'Loading…' : problem || (count ? `${count.toLocaleString()} shown` : 'None of them has a place.') }}</span>
      <span v-if="more" class="warn">Only the first {{ most.toLocaleString() }}: take a smaller area.</span>
      <Button v-if="pointField && count" label="Only what lies in view" icon="pi pi-filter" size="small" text @click="onlyThis" />
    </p>
  </div>
</template>

<style scoped>
.ground {
  height: min(62vh, 38rem);
  background:
    linear-gradient(var(--line) 1px, transparent 1px) 0 0 / 4rem 4rem,
    linear-gradient(90deg, var(--line) 1px, transparent 1px) 0 0 / 4rem 4rem,
    var(--ground);
  border-radius: 6px 6px 0 0;
  z-index: 0;
}
.below {
  display: flex;
  flex-wrap: wrap;
  gap: 0.3rem 1rem;
  align-items: center;
  margin: 0;
  padding: 0.4rem 0.9rem;
  min-height: 2.6rem;
}
</style>
