<script setup lang="ts">
import { computed, ref } from 'vue'
import NumberInput from '../../../faces/parts/NumberInput.vue'
import { usePoint } from '../../../faces/points'
import { locale, t } from '../../../faces/words'
import type { Definition } from '../definitions'
import { fine, here, locate, rough } from '../position'
import { distance } from '../values'
import ActionSheet from './ActionSheet.vue'
import IconSign from './IconSign.vue'
import PlacesMap from './PlacesMap.vue'

/** A point: by one tap where the device is, on the map, or typed. It is both of its numbers or neither. */
const props = defineProps<{ name: string; of: Definition }>()
const emit = defineEmits<{ wrong: [text: string] }>()
const value = defineModel<unknown>()
const { place, set, setLat, setLon, isWrong } = usePoint(props.name, value, (text) => emit('wrong', text))

const accuracy = ref<number>()
/** About a tenth of a metre: more digits than a position is worth. */
const rounded = (degrees: number) => Number(degrees.toFixed(6))
async function takeMine() {
  const found = await locate()
  if (!found) return
  accuracy.value = found.accuracy
  set(rounded(found.at[0]), rounded(found.at[1]))
}
const says = computed(() => {
  if (accuracy.value === undefined) return ''
  const off = distance(Math.max(accuracy.value, 10))
  if (accuracy.value > rough)
    return t('This may be off by {off}: another valley, perhaps. Try again under open sky, or pick it on the map.', {
      off,
    })
  if (accuracy.value > fine) return t('Good to about {off}. Try again for a better one.', { off })
  return t('Good to about {off}.', { off })
})

const picking = ref(false)
const centre = ref<[number, number]>()
const at = computed<[number, number] | undefined>(() => {
  const { lon, lat } = place.value
  return lon === undefined || lat === undefined ? undefined : [Number(lon), Number(lat)]
})
function pick() {
  if (centre.value) {
    set(rounded(centre.value[0]), rounded(centre.value[1]))
    accuracy.value = undefined
  }
  picking.value = false
}
const number = (degrees: number) =>
  degrees.toLocaleString(locale(), { minimumFractionDigits: 5, maximumFractionDigits: 5 })
</script>

<template>
  <div class="place">
    <div class="acts">
      <button type="button" class="btn grow" :disabled="here.looking" @click="takeMine"
        ><IconSign name="here" />{{ here.looking ? t('Looking for where you are …') : t('Where I am now') }}</button
      >
      <button type="button" class="btn" @click="picking = true"><IconSign name="map" />{{ t('On the map') }}</button>
    </div>
    <p v-if="says" class="small" :class="{ warn: (accuracy ?? 0) > fine }" role="status">{{ says }}</p>
    <p v-if="here.wrong" class="small warn" role="alert">{{ here.wrong }}</p>
    <div class="pair">
      <label :for="name"
        ><span class="small">{{ t('Latitude') }}</span
        ><NumberInput
          :id="name"
          :model-value="place.lat"
          :min="-90"
          :max="90"
          @update:model-value="setLat($event)"
          @wrong="isWrong('lat', $event)"
      /></label>
      <label :for="`${name}-lon`"
        ><span class="small">{{ t('Longitude') }}</span
        ><NumberInput
          :id="`${name}-lon`"
          :model-value="place.lon"
          :min="-180"
          :max="180"
          @update:model-value="setLon($event)"
          @wrong="isWrong('lon', $event)"
      /></label>
    </div>
    <ActionSheet v-if="picking" :title="t('Pick the place')" whole @close="picking = false">
      <p class="small">{{ t('Move the map until the cross is on the place.') }}</p>
      <PlacesMap :of="of" :field="name.split('/')[0]!" :ask="{}" :from="at" cross @centre="centre = $event" />
      <p class="small" role="status">{{ centre ? `${number(centre[1])}, ${number(centre[0])}` : '' }}</p>
      <button type="button" class="btn main" @click="pick">{{ t('Take this place') }}</button>
    </ActionSheet>
  </div>
</template>

<style scoped>
.place {
  display: grid;
  gap: 0.5rem;
}
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 0.6rem;
}
</style>
