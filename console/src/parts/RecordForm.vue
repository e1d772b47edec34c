<script setup lang="ts">
import Button from 'primevue/button'
import { useConfirm } from 'primevue/useconfirm'
import { computed, nextTick, onBeforeUnmount, onMounted, reactive, ref, watch } from 'vue'
import { onBeforeRouteLeave, onBeforeRouteUpdate, type RouteLocation } from 'vue-router'
import { readJSON, writeJSON } from '../../../generate/exact'
import { Problem, type Fields, type Overview, type Reason } from '../api/client'
import { settable } from '../collections'
import { hasParts, schemaOf } from '../../../faces/schema'
import type { OpenDraft } from '../drafts'
import { ago } from '../format'
import { provideHalf, type Half } from '../../../faces/half'
import FieldInput from './FieldInput.vue'

const props = defineProps<{
  collection: Overview
  fields: Fields
  preset?: Fields
  kept?: OpenDraft
  submit: (changed: Fields) => Promise<void>
  done: string
}>()
const emit = defineEmits<{ cancel: []; thrown: [] }>()

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

const copy = (fields: Fields) => readJSON<Fields>(writeJSON(fields))
const start = { ...defaults(), ...props.fields, ...props.preset }
const draft = reactive<Fields>(copy(start))
/** Place and period of a record that is there say which it is, and stay. */
const stays = (name: string) => [props.collection.coverage?.place, props.collection.coverage?.period].includes(name)
const inputs = computed(() => (props.collection.fields ?? []).filter((f) => settable(f) && !(stays(f.name) && props.fields[f.name] !== undefined)))
/** Whether a value is only asked for before the record is marked complete. */
const later = (name: string) => !!props.collection.coverage?.complete && !stays(name)
const before = copy(props.fields)
const shownFirst = writeJSON(draft)
const again = ref(props.kept?.first?.at) // when what stands here was typed, if that was before the form was opened
const version = ref(0) // counts how often the fields were filled from outside
for (const [name, value] of Object.entries(props.kept?.first?.fields ?? {})) draft[name] = value ?? undefined
const half = reactive<Half>({ ...props.kept?.first?.half })
provideHalf(half)
watch([draft, half], () => {
  // What was set back to what it was is no draft any more, unless it was sent and may have arrived.
  if (writeJSON(draft) === shownFirst && !Object.keys(half).length && !props.kept?.sent().key) props.kept?.drop()
  else props.kept?.keep({ fields: changed(), half: { ...half }, at: new Date().toISOString() })
})
function startAnew() {
  for (const name of Object.keys(draft)) delete draft[name]
  Object.assign(draft, copy(start))
  for (const name of Object.keys(unread)) unread[name] = ''
  for (const name of Object.keys(half)) delete half[name]
  again.value = undefined
  version.value++
  props.kept?.drop()
  emit('thrown')
}
/** What cannot be read of what was typed, by field. */
const unread = reactive<Record<string, string>>({})
const reasons = ref<Reason[]>([])
const wrong = ref('')
const busy = ref(false)
const form = ref<HTMLFormElement>()

/** Only what differs travels; a field that was emptied goes as null. */
function changed(): Fields {
  const fields: Fields = {}
  for (const field of inputs.value) {
    const [from, to] = [before[field.name], draft[field.name]]
    if (writeJSON([from]) !== writeJSON([to])) fields[field.name] = to ?? null
  }
  return fields
}

let over = false // what was typed is saved, or may go
const touched = () => !over && (writeJSON(draft) !== shownFirst || Object.values(unread).some(Boolean))

const confirm = useConfirm()
/** Whether the form may close: what was typed and not saved goes only if whoever typed it says so. */
function leave(): boolean | Promise<boolean> {
  if (!touched()) return true
  const at = document.activeElement
  return new Promise((resolve) => {
    const answer = (may: boolean) => {
      over ||= may
      if (may) props.kept?.drop()
      resolve(may)
      if (!may && at instanceof HTMLElement) whenAsked(() => isTyping() || at.focus())
    }
    confirm.require({
      header: 'Throw away what you typed?',
      message: 'It is not saved yet.',
      acceptLabel: 'Throw away',
      rejectLabel: 'Go on typing',
      acceptProps: { severity: 'danger' },
      rejectProps: { severity: 'secondary' },
      accept: () => answer(true),
      reject: () => answer(false),
      onHide: () => answer(false),
    })
  })
}
/** Whether somebody has gone on in another box already. */
const isTyping = () => /^(INPUT|TEXTAREA)$/.test(document.activeElement?.tagName ?? '')
/** Goes on once the question has gone, which takes the focus with it. */
function whenAsked(then: () => void) {
  if (document.querySelector('.p-confirmdialog')) setTimeout(() => whenAsked(then), 50)
  else then()
}
const elsewhere = (to: RouteLocation, from: RouteLocation) => to.path === from.path || leave()
onBeforeRouteLeave(elsewhere)
onBeforeRouteUpdate(elsewhere)
const unload = (event: BeforeUnloadEvent) => {
  if (touched()) event.preventDefault()
}
onMounted(() => window.addEventListener('beforeunload', unload))
onBeforeUnmount(() => window.removeEventListener('beforeunload', unload))
async function cancel() {
  if (await leave()) emit('cancel')
}
defineExpose({ leave })

async function save() {
  await nextTick() // a list takes over what was typed last when it loses the focus
  if (Object.values(unread).some(Boolean)) return toWhatIsWrong()
  const fields = changed()
  if (Object.keys(fields).length === 0 && !props.kept?.sent().key) {
    props.kept?.drop() // central has it all
    return emit('cancel')
  }
  busy.value = true
  wrong.value = ''
  reasons.value = []
  try {
    over = true // whoever has saved it may lead on to another page
    await props.submit(fields)
    props.kept?.drop()
  } catch (error) {
    over = false
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
  unread[name] ||
  reasons.value
    .filter((r) => r.field === name || r.field?.startsWith(name + '/'))
    .map((r) => r.message)
    .join('; ')
</script>

<template>
  <form ref="form" class="form" @submit.prevent="save" @keydown.esc.stop="cancel">
    <p v-if="again" class="again" role="status"
      >What you typed {{ ago(again) }} is here again, and not saved yet. <Button label="Throw it away" text size="small" @click="startAnew" />
    </p>
    <component
      :is="hasParts(field) ? 'div' : 'label'"
      v-for="(field, n) in inputs"
      :key="`${field.name} ${version}`"
      :for="hasParts(field) ? undefined : field.name"
      class="field"
    >
      <span
        >{{ field.title }}<span v-if="schemaOf(field).unit" class="faint"> ({{ schemaOf(field).unit }})</span
        ><span v-if="field.required && later(field.name)" class="faint"> – before it is complete</span
        ><span v-else-if="field.required" class="faint" title="A value is required"> *</span></span
      >
      <FieldInput v-model="draft[field.name]" :field="field" :first="n === 0" @wrong="unread[field.name] = $event" />
      <span v-if="schemaOf(field).description" class="hint">{{ schemaOf(field).description }}</span>
      <span v-if="reasonFor(field.name)" class="wrong" role="alert">{{ reasonFor(field.name) }}</span>
    </component>
    <div class="actions">
      <Button type="submit" :label="done" :loading="busy" size="small" />
      <Button label="Cancel" severity="secondary" size="small" @click="cancel" />
    </div>
    <!-- What comes up by itself stands below the buttons, so that they stay where they are. -->
    <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
    <slot />
  </form>
</template>

<style scoped>
.form p {
  margin: 0;
}
.again {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.2rem 0.6rem;
  font-size: 0.9rem;
}
</style>
