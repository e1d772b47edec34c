<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import MultiSelect from 'primevue/multiselect'
import Select from 'primevue/select'
import { computed, ref, watch } from 'vue'
import type { Overview } from '../api/client'
import { isLine, isNumber, isPoint, schemaOf } from '../../../faces/schema'
import { readNumber } from '../../../faces/numbers'

/** More conditions on a list: a field, how it compares, and with what. */
const props = defineProps<{ collection: Overview }>()
const emit = defineEmits<{ add: [where: string[]]; by: [worker: string]; since: [time: string] }>()

const by = '@by'
const since = '@since'
const field = ref('')
const op = ref('=')
const value = ref('')
const upTo = ref('') // the end of a range
const several = ref<string[]>([]) // choices, any of which may hold
const wrong = ref('')

const fields = computed(() => [
  ...(props.collection.fields ?? []).filter((f) => !isPoint(schemaOf(f)) && !isLine(schemaOf(f)) && !f.local).map((f) => ({ label: f.title, value: f.name })),
  { label: 'Edited last by', value: by },
  { label: 'Edited last since', value: since },
])
const chosen = computed(() => props.collection.fields?.find((f) => f.name === field.value))
const schema = computed(() => (chosen.value ? schemaOf(chosen.value) : {}))
const dated = computed(() => schema.value.format === 'date' || schema.value.format === 'date-time')
const choices = computed(() =>
  schema.value.type === 'boolean'
    ? [
        { label: 'yes', value: 'true' },
        { label: 'no', value: 'false' },
      ]
    : (schema.value.enum ?? []).map((one) => ({ label: String(one), value: String(one) })),
)
const ops = computed(() => {
  if (field.value === by || field.value === since) return []
  const either = [
    { label: 'is', value: '=' },
    { label: 'is not', value: '!=' },
  ]
  const order = [
    { label: 'between', value: 'range' },
    { label: dated.value ? 'from' : 'at least', value: '>=' },
    { label: dated.value ? 'before' : 'less than', value: '<' },
  ]
  const has = { label: 'contains', value: '~' }
  const known = [
    { label: 'has no value', value: 'none' },
    { label: 'has a value', value: 'some' },
  ]
  if (choices.value.length) return [{ label: 'is any of', value: 'any' }, { label: 'is not', value: '!=' }, ...known]
  if (isNumber(schema.value)) return [...either, ...order, ...known]
  if (dated.value) return [...order, ...either, ...known]
  return [has, ...either, ...known]
})
watch(field, () => {
  value.value = upTo.value = ''
  several.value = []
  wrong.value = ''
  op.value = ops.value[0]?.value ?? '='
})
const needsValue = computed(() => op.value !== 'none' && op.value !== 'some')

/** What was typed, as conditions have it; what is wrong with it is said. */
function read(text: string): string | undefined {
  const typed = text.trim()
  if (!typed) return void (wrong.value = op.value === 'range' ? 'Say from where to where.' : 'Say with what.')
  if (!isNumber(schema.value)) return typed
  const got = readNumber(typed)
  if (got.wrong) return void (wrong.value = got.wrong)
  return String(got.value)
}
function add() {
  wrong.value = ''
  const at = field.value
  if (op.value === 'none') emit('add', [`${at}=`])
  else if (op.value === 'some') emit('add', [`${at}!=`])
  else if (op.value === 'any') {
    if (!several.value.length) return (wrong.value = 'Choose one or more.')
    emit(
      'add',
      several.value.map((one) => `${at}=${one}`),
    )
  } else {
    const from = read(value.value)
    if (from === undefined) return
    if (at === by) emit('by', from)
    else if (at === since) emit('since', new Date(from).toISOString())
    else if (op.value === 'range') {
      const to = read(upTo.value)
      if (to === undefined) return
      emit('add', [`${at}>=${from}`, `${at}<=${to}`])
    } else emit('add', [`${at}${op.value}${from}`])
  }
  field.value = ''
}
</script>

<template>
  <form class="condition" @submit.prevent="add">
    <Select
      v-model="field"
      :options="fields"
      option-label="label"
      option-value="value"
      placeholder="Field"
      aria-label="Field to filter by"
      size="small"
      :filter="fields.length > 12"
    />
    <template v-if="field">
      <Select v-if="ops.length" v-model="op" :options="ops" option-label="label" option-value="value" aria-label="How it compares" size="small" />
      <template v-if="needsValue">
        <MultiSelect
          v-if="op === 'any'"
          v-model="several"
          :options="choices"
          option-label="label"
          option-value="value"
          :show-toggle-all="false"
          aria-label="Any of"
          placeholder="Any of"
          size="small"
        />
        <Select
          v-else-if="choices.length"
          v-model="value"
          :options="choices"
          option-label="label"
          option-value="value"
          aria-label="Value"
          placeholder="Value"
          size="small"
        />
        <InputText
          v-else
          v-model="value"
          :type="field === since ? 'datetime-local' : dated ? 'date' : 'text'"
          :inputmode="isNumber(schema) ? 'decimal' : undefined"
          :aria-label="op === 'range' ? 'From' : 'Value'"
          size="small"
        />
        <template v-if="op === 'range'"
          ><span>and</span
          ><InputText v-model="upTo" :type="dated ? 'date' : 'text'" :inputmode="isNumber(schema) ? 'decimal' : undefined" aria-label="To" size="small"
        /></template>
      </template>
      <Button type="submit" label="Add" size="small" severity="secondary" />
      <span v-if="wrong" class="bad" role="alert">{{ wrong }}</span>
    </template>
  </form>
</template>

<style scoped>
.condition {
  display: flex;
  flex-wrap: wrap;
  gap: 0.4rem;
  align-items: center;
}
</style>
