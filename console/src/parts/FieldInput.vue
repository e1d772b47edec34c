<script setup lang="ts">
import AutoComplete from 'primevue/autocomplete'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import Textarea from 'primevue/textarea'
import Button from 'primevue/button'
import { computed, defineAsyncComponent, ref } from 'vue'
import { api, ask, type Field } from '../api/client'
import { fieldsOf, labelOf, referenced, useCollections } from '../collections'
import { hasParts, isLine, isNumber, isPoint, schemaOf } from '../../../faces/schema'
import { periodChoices } from '../../../faces/periods'
import { usePoint, type Point } from '../../../faces/points'
import JSONInput from '../../../faces/parts/JSONInput.vue'
import MomentInput from '../../../faces/parts/MomentInput.vue'
import NumberInput from '../../../faces/parts/NumberInput.vue'
import NumbersInput from '../../../faces/parts/NumbersInput.vue'

// They are only needed by some fields: a map is heavy, and parts have fields in them again.
const PlaceDialog = defineAsyncComponent(() => import('./PlaceDialog.vue'))
const PartsInput = defineAsyncComponent(() => import('../../../faces/parts/PartsInput.vue'))

const props = defineProps<{ field: Field; first?: boolean; as?: string }>()
const emit = defineEmits<{ wrong: [text: string] }>()
const value = defineModel<unknown>()
const schema = computed(() => schemaOf(props.field))
/** What its label is for, where several inputs of one field stand on a page. */
const at = computed(() => props.as ?? props.field.name)
const { find } = useCollections()

const text = computed({ get: () => (value.value ?? '') as string, set: (typed) => (value.value = typed === '' ? undefined : typed) })
const answers = [
  { label: 'yes', value: true },
  { label: 'no', value: false },
]
const list = computed({ get: () => (value.value ?? []) as string[], set: (items) => (value.value = items.length ? items : undefined) })

// Only of a point, the boxes have halves.
const { place, set, setLat, setLon, isWrong } = usePoint(isPoint(schema.value) ? at.value : '', value, (why) => emit('wrong', why))

const picking = ref(false)
function pick(coordinates: unknown[]) {
  if (isLine(schema.value)) {
    value.value = { type: 'LineString', coordinates }
    return
  }
  set(coordinates[0], coordinates[1])
}

// What was typed into a list and not taken over by Enter is part of it, too.
function takeItem(event: Event) {
  const rest = event.target instanceof HTMLInputElement ? event.target.value.trim() : ''
  if (rest && event.target instanceof HTMLInputElement) {
    list.value = [...list.value, rest]
    event.target.value = ''
  }
}

interface Choice {
  id: string
  label: string
}
const choices = ref<Choice[]>([])
const chosen = computed<Choice | string | undefined>({
  get: () => (typeof value.value === 'string' ? { id: value.value, label: referenced(props.field.reference!, value.value) } : undefined),
  set: (choice) => {
    if (!choice) value.value = undefined
    else if (typeof choice !== 'string') value.value = choice.id
  },
})
async function search(event: { query: string }) {
  const collection = props.field.reference!
  const listing = await ask(api.GET('/v1/records/{collection}', { params: { path: { collection }, query: { search: event.query, limit: 20 } } })).catch(
    () => undefined,
  )
  choices.value = (listing?.records ?? []).map((record) => ({ id: record.id, label: labelOf(find(collection), fieldsOf(record)) }))
}
</script>

<template>
  <AutoComplete
    v-if="field.reference"
    v-model="chosen"
    :suggestions="choices"
    option-label="label"
    dropdown
    force-selection
    fluid
    :input-id="at"
    placeholder="Type to search"
    @complete="search"
  />
  <Select
    v-else-if="field.period && field.period !== 'day'"
    v-model="value"
    :options="periodChoices(field.period, value)"
    option-label="label"
    option-value="value"
    :show-clear="!field.required"
    fluid
    :input-id="at"
    :aria-label="field.title"
  />
  <Select v-else-if="schema.enum" v-model="value" :options="schema.enum" :show-clear="!field.required" fluid :input-id="at" :aria-label="field.title" />
  <Select
    v-else-if="schema.type === 'boolean'"
    v-model="value"
    :options="answers"
    option-label="label"
    option-value="value"
    :show-clear="!field.required"
    fluid
    :input-id="at"
    :aria-label="field.title"
  />
  <NumberInput v-else-if="isNumber(schema)" :id="at" v-model="value" :integer="schema.type === 'integer'" @wrong="emit('wrong', $event)" />
  <MomentInput
    v-else-if="field.period || (schema.type === 'string' && (schema.format === 'date' || schema.format === 'date-time'))"
    :id="at"
    v-model="value"
    :moment="schema.format === 'date-time'"
    @wrong="emit('wrong', $event)"
  />
  <Textarea v-else-if="schema.type === 'string' && (schema.maxLength ?? 0) > 200" v-model="text" rows="3" auto-resize fluid :id="at" />
  <InputText v-else-if="schema.type === 'string'" v-model="text" fluid :id="at" :autofocus="first || undefined" />
  <span v-else-if="schema.type === 'array' && schema.items?.type === 'string'" @keydown.enter.prevent @keypress.enter.prevent @focusout="takeItem"
    ><AutoComplete v-model="list" multiple :typeahead="false" fluid :input-id="at" placeholder="Type and press Enter"
  /></span>
  <div v-else-if="isPoint(schema)" class="pair">
    <NumberInput
      :id="at"
      :model-value="place.lat"
      :min="-90"
      :max="90"
      placeholder="Latitude"
      aria-label="Latitude"
      @update:model-value="setLat"
      @wrong="isWrong('lat', $event)"
    />
    <NumberInput
      :id="`${at}-lon`"
      :model-value="place.lon"
      :min="-180"
      :max="180"
      placeholder="Longitude"
      aria-label="Longitude"
      @update:model-value="setLon"
      @wrong="isWrong('lon', $event)"
    />
    <Button icon="pi pi-map-marker" text size="small" aria-label="Pick it on a map" title="Pick it on a map" @click.prevent="picking = true" />
  </div>
  <NumbersInput
    v-else-if="schema.type === 'array' && schema.items && isNumber(schema.items)"
    :id="at"
    v-model="value"
    :integer="schema.items.type === 'integer'"
    @wrong="emit('wrong', $event)"
  />
  <PartsInput v-else-if="hasParts(field)" v-slot="part" v-model="value" :field="field" @wrong="emit('wrong', $event)"
    ><FieldInput :model-value="part.value" :field="part.field as Field" @update:model-value="part.set" @wrong="part.wrong"
  /></PartsInput>
  <JSONInput v-else :id="at" v-model="value" @wrong="emit('wrong', $event)" />
  <Button v-if="isLine(schema)" label="Draw it" icon="pi pi-map" text size="small" class="draw" @click.prevent="picking = true" />
  <PlaceDialog
    v-if="picking"
    v-model:visible="picking"
    :name="field.name"
    :title="field.title"
    :line="isLine(schema)"
    :from="isLine(schema) ? (value as Point | undefined)?.coordinates : place.lon !== undefined && place.lat !== undefined ? [place.lon, place.lat] : undefined"
    @pick="pick"
  />
</template>

<style scoped>
.draw {
  justify-self: start;
}
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr auto;
  gap: 0.5rem;
}
</style>
