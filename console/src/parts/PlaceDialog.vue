<script setup lang="ts">
import L from 'leaflet'
import 'leaflet/dist/leaflet.css'
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import { nextTick, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { api, ask } from '../api/client'
import { fieldsOf } from '../collections'

/** Picks a point, or draws a line, among the places that the collection's other records have. */
const props = defineProps<{ name: string; title: string; line?: boolean; from?: unknown[] }>()
const emit = defineEmits<{ pick: [coordinates: unknown[]] }>()
const visible = defineModel<boolean>('visible')
const route = useRoute()
const box = ref<HTMLElement>()
const drawn = ref<[number, number][]>([]) // latitude first, as Leaflet has it

let map: L.Map | undefined
let shape: L.LayerGroup | undefined
const round = (degrees: number) => Math.round(degrees * 1e6) / 1e6
const pair = (at: unknown): [number, number] | undefined => (Array.isArray(at) && at.length > 1 ? [Number(at[1]), Number(at[0])] : undefined)
const style = () => ({ color: getComputedStyle(document.documentElement).getPropertyValue('--accent').trim() || '#a4501c' })

function draw() {
  shape?.clearLayers()
  if (props.line && drawn.value.length > 1) shape?.addLayer(L.polyline(drawn.value, { ...style(), weight: 4 }))
  for (const at of drawn.value) shape?.addLayer(L.circleMarker(at, { ...style(), radius: props.line ? 4 : 8, fillOpacity: 0.8 }))
}
watch(drawn, draw)

async function open() {
  const given = props.line ? (props.from ?? []).map(pair).filter((p) => p !== undefined) : [pair(props.from)].filter((p) => p !== undefined)
  drawn.value = given
  await nextTick()
  map = L.map(box.value!, { preferCanvas: true, attributionControl: false, zoomSnap: 0.25 }).setView(given[0] ?? [0, 0], given.length ? 14 : 2)
  L.control.scale({ imperial: false }).addTo(map)
  shape = L.layerGroup().addTo(map)
  map.on('click', (event: L.LeafletMouseEvent) => {
    const at: [number, number] = [round(event.latlng.lat), round(event.latlng.wrap().lng)]
    drawn.value = props.line ? [...drawn.value, at] : [at]
  })
  draw()
  // The others, so that one sees where one is.
  const collection = String(route.params.collection)
  const page = await ask(api.GET('/v1/records/{collection}', { params: { path: { collection }, query: { limit: 1000 } } })).catch(() => undefined)
  if (!map) return
  const others = L.featureGroup()
  for (const record of page?.records ?? []) {
    const at = (fieldsOf(record)[props.name] as { coordinates?: unknown[] } | undefined)?.coordinates
    const faint = { color: '#7a7268', weight: 1, radius: 3, interactive: false }
    if (props.line) {
      const line = (at ?? []).map(pair).filter((p) => p !== undefined)
      if (line.length > 1) others.addLayer(L.polyline(line, faint))
    } else if (pair(at)) others.addLayer(L.circleMarker(pair(at)!, faint))
  }
  others.addTo(map)
  if (!given.length && others.getLayers().length) map.fitBounds(others.getBounds().pad(0.05), { maxZoom: 15 })
}
function close() {
  map?.remove()
  map = undefined
}
function take() {
  const all = drawn.value.map(([lat, lon]) => [lon, lat])
  // What was not moved keeps its digits and its altitude.
  const kept = all.map((at, n) => {
    const before = props.line ? (props.from?.[n] as unknown[] | undefined) : props.from
    const same = before && Number(before[0]) === at[0] && Number(before[1]) === at[1]
    return same ? before : at
  })
  emit('pick', props.line ? kept : kept[0]!)
  visible.value = false
}
</script>

<template>
  <Dialog
    v-model:visible="visible"
    modal
    :header="line ? `Draw: ${title}` : `Pick: ${title}`"
    :style="{ width: 'min(46rem, 96vw)' }"
    @show="open"
    @hide="close"
  >
    <div ref="box" class="ground" role="application" :aria-label="line ? 'Each press adds a point to the line' : 'A press picks the place'" />
    <div class="actions">
      <Button label="Take" size="small" :disabled="line ? drawn.length < 2 : !drawn.length" @click="take" />
      <Button v-if="line" label="Without the last point" size="small" severity="secondary" :disabled="!drawn.length" @click="drawn = drawn.slice(0, -1)" />
      <Button label="Cancel" size="small" severity="secondary" @click="visible = false" />
      <span class="faint">{{ line ? `${drawn.length} points` : drawn[0] ? `${drawn[0][0]}, ${drawn[0][1]}` : 'Press where it is.' }}</span>
    </div>
  </Dialog>
</template>

<style scoped>
.ground {
  height: min(55vh, 26rem);
  margin-bottom: 0.8rem;
  border: 1px solid var(--line);
  border-radius: 4px;
  background: var(--ground);
  cursor: crosshair;
}
.actions {
  align-items: center;
}
</style>
