<script setup lang="ts">
import AutoComplete from 'primevue/autocomplete'
import InputNumber from 'primevue/inputnumber'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import Textarea from 'primevue/textarea'
import ToggleSwitch from 'primevue/toggleswitch'
import { computed, ref } from 'vue'
import { api, ask, type Field } from '../api/client'
import { fieldsOf, isNumber, isPoint, labelOf, referenced, schemaOf, useCollections } from '../collections'

const props = defineProps<{ field: Field; first?: boolean }>()
const value = defineModel<unknown>()
const schema = computed(() => schemaOf(props.field))
const { find } = useCollections()

const text = computed({ get: () => (value.value ?? '') as string, set: (typed) => (value.value = typed === '' ? undefined : typed) })
const number = computed({ get: () => value.value as number | null, set: (typed) => (value.value = typed ?? undefined) })
const flag = computed({ get: () => value.value === true, set: (on) => (value.value = on) })
const list = computed({ get: () => (value.value ?? []) as string[], set: (items) => (value.value = items.length ? items : undefined) })

type Point = { type: 'Point'; coordinates: number[] }
function setPoint(at: 0 | 1, typed: number | null | undefined) {
  const old = (value.value as Point | undefined)?.coordinates ?? []
  const both = [at === 0 ? typed : old[0], at === 1 ? typed : old[1]]
  if (both.every((part) => part === null || part === undefined)) value.value = undefined
  else value.value = { type: 'Point', coordinates: both.map((part) => part ?? 0) }
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

const json = ref(value.value === undefined ? '' : JSON.stringify(value.value))
const jsonWrong = ref(false)
function setJSON(typed: string | undefined) {
  json.value = typed ?? ''
  try {
    value.value = json.value.trim() === '' ? undefined : JSON.parse(json.value)
    jsonWrong.value = false
  } catch {
    jsonWrong.value = true
  }
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
    :input-id="field.name"
    placeholder="Type to search"
    @complete="search"
  />
  <Select v-else-if="schema.enum" v-model="value" :options="schema.enum" :show-clear="!field.required" fluid :input-id="field.name" />
  <ToggleSwitch v-else-if="schema.type === 'boolean'" v-model="flag" :input-id="field.name" />
  <InputNumber
    v-else-if="isNumber(schema)"
    v-model="number"
    :max-fraction-digits="schema.type === 'integer' ? 0 : 6"
    :use-grouping="false"
    fluid
    :input-id="field.name"
  />
  <InputText v-else-if="schema.type === 'string' && schema.format === 'date'" v-model="text" type="date" fluid :id="field.name" />
  <Textarea v-else-if="schema.type === 'string' && (schema.maxLength ?? 0) > 200" v-model="text" rows="3" auto-resize fluid :id="field.name" />
  <InputText v-else-if="schema.type === 'string'" v-model="text" fluid :id="field.name" :autofocus="first || undefined" />
  <span v-else-if="schema.type === 'array' && schema.items?.type === 'string'" @keydown.enter.prevent @keypress.enter.prevent
    ><AutoComplete v-model="list" multiple :typeahead="false" fluid :input-id="field.name" placeholder="Type and press Enter"
  /></span>
  <div v-else-if="isPoint(schema)" class="pair">
    <InputNumber
      :model-value="(value as Point | undefined)?.coordinates[1]"
      :max-fraction-digits="7"
      :min="-90"
      :max="90"
      placeholder="Latitude"
      fluid
      aria-label="Latitude"
      @update:model-value="setPoint(1, $event)"
    />
    <InputNumber
      :model-value="(value as Point | undefined)?.coordinates[0]"
      :max-fraction-digits="7"
      :min="-180"
      :max="180"
      placeholder="Longitude"
      fluid
      aria-label="Longitude"
      @update:model-value="setPoint(0, $event)"
    />
  </div>
  <div v-else>
    <Textarea :model-value="json" rows="3" fluid class="mono" :id="field.name" @update:model-value="setJSON" />
    <span v-if="jsonWrong" class="wrong">This is not JSON; it is not taken over.</span>
  </div>
</template>

<style scoped>
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 0.5rem;
}
</style>
