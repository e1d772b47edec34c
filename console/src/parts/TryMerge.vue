<script setup lang="ts">
import Button from 'primevue/button'
import Select from 'primevue/select'
import ToggleSwitch from 'primevue/toggleswitch'
import { computed, ref, watch } from 'vue'
import { writeJSON } from '../../../generate/exact'
import { api, ask, type Definition, type Meeting } from '../api/client'
import { settable } from '../collections'
import { shown } from '../format'
import FieldInput from './FieldInput.vue'

/** Lets two edits of one field meet, as a definition would have it. Nothing is stored. */
const props = defineProps<{ definition: Definition }>()

const name = ref('')
const values = ref<{ base?: unknown; one?: unknown; other?: unknown }>({})
const wrongs = ref<Record<string, string>>({})
const otherFirst = ref(false)
const met = ref<Meeting>()
const wrong = ref('')
const working = ref(false)

const fields = computed(() => (props.definition.fields ?? []).filter(settable))
const field = computed(() => fields.value.find((f) => f.name === name.value))
const people = [
  { of: 'base', title: 'As it was' },
  { of: 'one', title: 'One makes it' },
  { of: 'other', title: 'The other, a minute later' },
] as const
watch(name, () => ((values.value = {}), (wrongs.value = {})))
watch([name, values, otherFirst, () => props.definition], () => ((met.value = undefined), (wrong.value = '')), { deep: true })

async function run() {
  if (Object.values(wrongs.value).some(Boolean)) return
  working.value = true
  const at = name.value
  const record = (value: unknown) => (value === undefined ? {} : { [at]: value })
  const { base, one, other } = values.value
  try {
    const body = { definition: props.definition, base: record(base), one: record(one), other: record(other), other_first: otherFirst.value }
    met.value = await ask(api.POST('/v1/definitions/meeting', { body }))
  } catch (error) {
    wrong.value = (error as Error).message
  }
  working.value = false
}

const same = (a: unknown, b: unknown) => writeJSON([a]) === writeJSON([b])
const result = computed(() => {
  const m = met.value
  const f = field.value
  if (!m || !f) return undefined
  const value = (m.record as Record<string, unknown>)[f.name]
  const decided = m.decisions?.find((d) => d.field === f.name)
  const { base, one, other } = values.value
  let why = 'Nobody else had changed it.'
  if (m.disputes?.[f.name]) why = 'Both are kept for a person to decide. Until then, what came first stands.'
  else if (decided) why = { central: 'What came first is kept.', change: 'What came second is taken.', both: 'Both come together.' }[decided.kept as 'both']
  else if (same(one, other) && !same(one, base)) why = 'Both said the same.'
  return { value: value === undefined ? 'no value' : shown(f, value), why: decided ? `${why} The rule is ${decided.rule}.` : why }
})
</script>

<template>
  <section class="sheet padded">
    <h2>Try what becomes of two edits that meet</h2>
    <form class="form" @submit.prevent="run">
      <label for="meeting-field"
        >Field<Select
          v-model="name"
          input-id="meeting-field"
          aria-label="Field"
          :options="fields"
          option-label="title"
          option-value="name"
          placeholder="Choose one"
          :filter="fields.length > 12"
      /></label>
      <template v-if="field">
        <div class="three">
          <div v-for="p in people" :key="`${name} ${p.of}`" class="field">
            <label :for="`${p.of} ${name}`">{{ p.title }}</label>
            <FieldInput v-model="values[p.of]" :field="field" :as="`${p.of} ${name}`" @wrong="wrongs[p.of] = $event" />
            <span v-if="wrongs[p.of]" class="wrong" role="alert">{{ wrongs[p.of] }}</span>
          </div>
        </div>
        <label class="check"><ToggleSwitch v-model="otherFirst" input-id="other-first" /><span>The later one reaches central first</span></label>
        <div class="actions"><Button type="submit" label="Let them meet" size="small" severity="secondary" :loading="working" /></div>
      </template>
    </form>
    <div role="status" aria-live="polite">
      <p v-if="wrong" class="bad">{{ wrong }}</p>
      <p v-else-if="result"
        >It comes to <b>{{ result.value }}</b>. {{ result.why }} <span class="faint">Answered {{ met?.one }} and {{ met?.other }}.</span></p
      >
    </div>
  </section>
</template>

<style scoped>
.three {
  display: grid;
  grid-template-columns: repeat(3, minmax(0, 1fr));
  gap: 0.8rem;
}
.three label {
  font-size: inherit;
}
.check {
  display: flex !important;
  gap: 0.7rem;
  align-items: center;
}
@media (max-width: 720px) {
  .three {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
