<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { computed, ref, watch } from 'vue'
import type { Overview } from '../api/client'
import { isLine, isNumber, isPoint, schemaOf } from '../collections'
import { readNumber } from '../numbers'

/** One more condition on a list: a field, how it compares, and with what. */
const props = defineProps<{ collection: Overview }>()
const emit = defineEmits<{ add: [where: string]; by: [worker: string]; since: [time: string] }>()

const by = '@by'
const since = '@since'
const field = ref('')
const op = ref('=')
const value = ref('')
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
    { label: dated.value ? 'from' : 'at least', value: '>=' },
    { label: dated.value ? 'before' : 'less than', value: '<' },
  ]
  const has = { label: 'contains', value: '~' }
  const known = [
    { label: 'has no value', value: 'none' },
    { label: 'has a value', value: 'some' },
  ]
  if (choices.value.length) return [...either, ...known]
  if (isNumber(schema.value)) return [...either, ...order, ...known]
  if (dated.value) return [...order, ...either, ...known]
  return [has, ...either, ...known]
})
watch(field, () => {
  value.value = ''
  wrong.value = ''
  op.value = ops.value[0]?.value ?? '='
})
const needsValue = computed(() => op.value !== 'none' && op.value !== 'some')

function add() {
  wrong.value = ''
  const typed = value.value.trim()
  if (needsValue.value && !typed) return (wrong.value = 'Say with what.')
  if (field.value === by) emit('by', typed)
  else if (field.value === since) emit('since', new Date(typed).toISOString())
  else if (op.value === 'none') emit('add', `${field.value}=`)
  else if (op.value === 'some') emit('add', `${field.value}!=`)
  else if (isNumber(schema.value)) {
    const got = readNumber(typed)
    if (got.wrong) return (wrong.value = got.wrong)
    emit('add', `${field.value}${op.value}${String(got.value)}`)
  } else emit('add', `${field.value}${op.value}${typed}`)
  value.value = ''
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
        <Select
          v-if="choices.length"
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
          aria-label="Value"
          size="small"
        />
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
