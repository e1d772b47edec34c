<script setup lang="ts">
import Button from 'primevue/button'
import { computed, nextTick, reactive, ref } from 'vue'
import { Problem, type Fields, type Overview, type Reason } from '../api/client'
import { schemaOf, settable } from '../collections'
import FieldInput from './FieldInput.vue'

const props = defineProps<{ collection: Overview; fields: Fields; preset?: Fields; submit: (changed: Fields) => Promise<void>; done: string }>()
const emit = defineEmits<{ cancel: [] }>()

/** What a new record starts with, by the definition. */
function defaults(): Fields {
  const start: Fields = {}
  if (Object.keys(props.fields).length > 0) return start
  for (const field of (props.collection.fields ?? []).filter(settable)) {
    const value = schemaOf(field).default
    if (value !== undefined && value !== null) start[field.name] = value
  }
  return start
}

const draft = reactive<Fields>(JSON.parse(JSON.stringify({ ...defaults(), ...props.fields, ...props.preset })))
const inputs = computed(() => (props.collection.fields ?? []).filter(settable))
const before = JSON.parse(JSON.stringify(props.fields)) as Fields
const reasons = ref<Reason[]>([])
const wrong = ref('')
const busy = ref(false)
const form = ref<HTMLFormElement>()

/** Only what differs travels; a field that was emptied goes as null. */
function changed(): Fields {
  const fields: Fields = {}
  for (const field of inputs.value) {
    const [from, to] = [before[field.name], draft[field.name]]
    if (JSON.stringify(from) !== JSON.stringify(to)) fields[field.name] = to ?? null
  }
  return fields
}

async function save() {
  const fields = changed()
  if (Object.keys(fields).length === 0) return emit('cancel')
  busy.value = true
  wrong.value = ''
  reasons.value = []
  try {
    await props.submit(fields)
  } catch (error) {
    reasons.value = error instanceof Problem ? error.reasons : []
    wrong.value = (error as Error).message
  } finally {
    busy.value = false
  }
  if (wrong.value) await toWhatIsWrong()
}

/** The button that was pressed could not be used meanwhile and has lost the focus: it goes to the first field that is wrong. */
async function toWhatIsWrong() {
  await nextTick()
  const first = inputs.value.find((field) => reasonFor(field.name))
  const labels = [...(form.value?.querySelectorAll('label') ?? [])]
  const input = labels.find((label) => label.htmlFor === first?.name)?.querySelector<HTMLElement>('input, textarea, [tabindex="0"]')
  ;(input ?? form.value?.querySelector<HTMLElement>('button[type=submit]'))?.focus()
}

const reasonFor = (name: string) =>
  reasons.value
    .filter((r) => r.field === name || r.field?.startsWith(name + '/'))
    .map((r) => r.message)
    .join('; ')
</script>

<template>
  <form ref="form" class="form" @submit.prevent="save" @keydown.esc="emit('cancel')">
    <label v-for="(field, n) in inputs" :key="field.name" :for="field.name">
      <span
        >{{ field.title }}<span v-if="schemaOf(field).unit" class="faint"> ({{ schemaOf(field).unit }})</span
        ><span v-if="field.required" class="faint" title="A value is required"> *</span></span
      >
      <FieldInput v-model="draft[field.name]" :field="field" :first="n === 0" />
      <span v-if="schemaOf(field).description" class="hint">{{ schemaOf(field).description }}</span>
      <span v-if="reasonFor(field.name)" class="wrong" role="alert">{{ reasonFor(field.name) }}</span>
    </label>
    <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
    <div class="actions">
      <Button type="submit" :label="done" :loading="busy" size="small" />
      <Button label="Cancel" severity="secondary" size="small" @click="emit('cancel')" />
    </div>
  </form>
</template>

<style scoped>
.form p {
  margin: 0;
}
</style>
