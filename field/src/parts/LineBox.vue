<script setup lang="ts">
import { computed, onBeforeUnmount, ref } from 'vue'
import { t, tn } from '../../../faces/words'
import type { Definition } from '../definitions'
import { follow, here, rough } from '../position'
import { distance, way } from '../values'
import ActionSheet from './ActionSheet.vue'
import IconSign from './IconSign.vue'
import PlacesMap from './PlacesMap.vue'

/** A line: by walking along it, or point by point on the map. What was walked is kept as it comes. */
const props = defineProps<{ name: string; of: Definition }>()
const value = defineModel<unknown>()
type Line = { type: 'LineString'; coordinates: [number, number][] }
const points = computed(() => (value.value as Line | undefined)?.coordinates ?? [])
/** A line has two points at least: one alone waits here. */
const first = ref<[number, number]>()
const all = computed(() => (points.value.length ? points.value : first.value ? [first.value] : []))
const length = computed(() =>
  points.value.slice(1).reduce((sum, at, n) => sum + way(plain(points.value[n]!), plain(at)).metres, 0),
)
const plain = (at: unknown[]): [number, number] => [Number(at[0]), Number(at[1])]

const apart = 8 // metres between two points of a walk
function put(list: [number, number][]) {
  first.value = list.length === 1 ? list[0] : undefined
  value.value = list.length > 1 ? { type: 'LineString', coordinates: list } : undefined
}
const rounded = (degrees: number) => Number(degrees.toFixed(6))

let stop: (() => void) | undefined
const walking = ref(false)
function walk() {
  if (walking.value) {
    stop?.()
    walking.value = false
    return
  }
  here.wrong = ''
  walking.value = true
  stop = follow(({ at, accuracy }) => {
    if (accuracy > rough / 10) return // it would draw a zigzag
    const last = all.value.at(-1)
    if (!last || way(plain(last), at).metres >= apart) put([...all.value, [rounded(at[0]), rounded(at[1])]])
  })
}
onBeforeUnmount(() => stop?.())

const drawing = ref(false)
const centre = ref<[number, number]>()
function addCentre() {
  if (centre.value) put([...all.value, [rounded(centre.value[0]), rounded(centre.value[1])]])
}
</script>

<template>
  <div class="line">
    <p role="status">{{
      all.length ? `${tn(all.length, '{n} point|{n} points')}, ${distance(length)}` : t('No points yet.')
    }}</p>
    <div class="acts">
      <button type="button" class="btn grow" :aria-pressed="walking" :class="{ main: walking }" @click="walk"
        ><IconSign name="walk" />{{ walking ? t('Stop here') : t('Walk along it') }}</button
      >
      <button type="button" class="btn" @click="drawing = true"><IconSign name="map" />{{ t('On the map') }}</button>
      <button v-if="all.length" type="button" class="btn" @click="put(all.slice(0, -1))"
        ><IconSign name="undo" />{{ t('Last point away') }}</button
      >
      <button v-if="all.length && !walking" type="button" class="btn danger" @click="put([])">{{
        t('All away')
      }}</button>
    </div>
    <p v-if="walking" class="small">{{ t('Keep the app open while you walk. Each point is kept at once.') }}</p>
    <p v-if="here.wrong" class="small warn" role="alert">{{ here.wrong }}</p>
    <ActionSheet v-if="drawing" :title="t('Draw the line')" whole @close="drawing = false">
      <p class="small">{{ t('Move the map until the cross is on the next point, and add it.') }}</p>
      <PlacesMap
        :of="of"
        :field="name.split('/')[0]!"
        :ask="{}"
        :from="all.at(-1) && plain(all.at(-1)!)"
        :line="all.map(plain)"
        cross
        @centre="centre = $event"
      />
      <div class="acts">
        <button type="button" class="btn main grow" @click="addCentre">{{ t('Add this point') }}</button>
        <button type="button" class="btn" :disabled="!all.length" @click="put(all.slice(0, -1))">{{
          t('Last point away')
        }}</button>
        <button type="button" class="btn" @click="drawing = false">{{ t('Done') }}</button>
      </div>
      <p class="small" role="status">{{ `${tn(all.length, '{n} point|{n} points')}, ${distance(length)}` }}</p>
    </ActionSheet>
  </div>
</template>

<style scoped>
.line {
  display: grid;
  gap: 0.5rem;
}
</style>
