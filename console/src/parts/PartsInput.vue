<script setup lang="ts">
import Button from 'primevue/button'
import { computed, reactive, ref } from 'vue'
import type { Field } from '../api/client'
import { schemaOf, type Schema } from '../collections'
import { useHalf } from '../half'
import FieldInput from './FieldInput.vue'

/** The parts of a nested field; of a list of such, those of each of its members. */
const props = defineProps<{ field: Field }>()
const emit = defineEmits<{ wrong: [text: string] }>()
const value = defineModel<unknown>()
type Parts = Record<string, unknown>

const isList = computed(() => schemaOf(props.field).type === 'array')
const schema = computed<Schema>(() => (isList.value ? (schemaOf(props.field).items ?? {}) : schemaOf(props.field)))
const members = computed<Parts[]>(() => (isList.value ? ((value.value ?? []) as Parts[]) : [(value.value ?? {}) as Parts]))
const parts = computed(() =>
  Object.entries(schema.value.properties ?? {}).map(([name, part]) => ({
    name,
    title: (part as Schema).title ?? name.charAt(0).toUpperCase() + name.slice(1).replaceAll('_', ' '),
    required: (schema.value.required ?? []).includes(name),
    schema: part,
  })),
)
const asField = (n: number, part: (typeof parts.value)[number]) =>
  ({ ...props.field, ...part, name: `${props.field.name}/${n}/${part.name}`, reference: '' }) as unknown as Field

const keys = ref(members.value.map((_, n) => n)) // so that what is typed stays with its member when one before it goes
let next = keys.value.length
const wrongs = reactive<Record<string, string>>({})
function tell(key: number, name: string, text: string) {
  wrongs[`${key} ${name}`] = text
  emit('wrong', Object.values(wrongs).find(Boolean) ?? '')
}
function put(all: Parts[]) {
  if (isList.value) value.value = all.length ? all : undefined
  else value.value = all[0] && Object.keys(all[0]).length ? all[0] : undefined
}
function set(n: number, name: string, to: unknown) {
  const all = members.value.map((one) => ({ ...one }))
  const one = (all[n] ??= {})
  if (to === undefined || to === null) delete one[name]
  else one[name] = to
  put(all)
}
function add() {
  keys.value.push(next++)
  put([...members.value, {}])
}
const half = useHalf(props.field.name)
function drop(n: number) {
  half.forget(`${props.field.name}/`)
  const [key] = keys.value.splice(n, 1)
  for (const at of Object.keys(wrongs)) if (at.startsWith(`${key} `)) wrongs[at] = ''
  put(members.value.filter((_, other) => other !== n))
  emit('wrong', Object.values(wrongs).find(Boolean) ?? '')
}
</script>

<template>
  <div class="parts">
    <fieldset v-for="(member, n) in members" :key="keys[n]">
      <legend v-if="isList" class="hidden">{{ field.title }} {{ n + 1 }}</legend>
      <legend v-else class="hidden">{{ field.title }}</legend>
      <label v-for="part in parts" :key="part.name" :for="`${field.name}/${n}/${part.name}`"
        >{{ part.title
        }}<FieldInput
          :model-value="member[part.name]"
          :field="asField(n, part)"
          @update:model-value="set(n, part.name, $event)"
          @wrong="tell(keys[n]!, part.name, $event)"
      /></label>
      <Button v-if="isList" :label="`Take ${n + 1} out`" size="small" text severity="secondary" @click="drop(n)" />
    </fieldset>
    <Button v-if="isList" :label="`Add to ${field.title.toLowerCase()}`" icon="pi pi-plus" size="small" text @click="add" />
  </div>
</template>

<style scoped>
.parts {
  display: grid;
  gap: 0.5rem;
  justify-items: start;
}
fieldset {
  width: 100%;
  margin: 0;
  padding: 0.6rem 0.8rem;
  border: 1px solid var(--line);
  border-radius: 4px;
  display: grid;
  gap: 0.6rem;
  justify-items: stretch;
}
</style>
