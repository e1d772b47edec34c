<script setup lang="ts">
import Button from 'primevue/button'
import { computed, reactive, ref } from 'vue'
import { useHalf } from '../half'
import { schemaOf, type FieldLike, type Schema } from '../schema'
import { t } from '../words'

/**
 * The parts of a nested field; of a list of such, those of each of its members. What a part is filled in with is the slot's: it
 * gets the part as a field, its value, and what to call when either changes.
 */
const props = defineProps<{ field: FieldLike }>()
defineSlots<{
  default(part: {
    field: FieldLike
    value: unknown
    set: (to: unknown) => void
    wrong: (text: string) => void
  }): unknown
}>()
const emit = defineEmits<{ wrong: [text: string] }>()
const value = defineModel<unknown>()
type Parts = Record<string, unknown>

const isList = computed(() => schemaOf(props.field).type === 'array')
const schema = computed<Schema>(() => (isList.value ? (schemaOf(props.field).items ?? {}) : schemaOf(props.field)))
const members = computed<Parts[]>(() =>
  isList.value ? ((value.value ?? []) as Parts[]) : [(value.value ?? {}) as Parts],
)
const parts = computed(() =>
  Object.entries(schema.value.properties ?? {}).map(([name, part]) => ({
    name,
    title: (part as Schema).title ?? name.charAt(0).toUpperCase() + name.slice(1).replaceAll('_', ' '),
    required: (schema.value.required ?? []).includes(name),
    schema: part,
  })),
)
const asField = (n: number, part: (typeof parts.value)[number]) =>
  ({ ...part, name: `${props.field.name}/${n}/${part.name}` }) as FieldLike

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
        }}<slot
          :field="asField(n, part)"
          :value="member[part.name]"
          :set="(to: unknown) => set(n, part.name, to)"
          :wrong="(text: string) => tell(keys[n]!, part.name, text)"
      /></label>
      <Button
        v-if="isList"
        :label="t('Take {n} out', { n: n + 1 })"
        size="small"
        text
        severity="secondary"
        @click="drop(n)"
      />
    </fieldset>
    <Button
      v-if="isList"
      :label="t('Add to {title}', { title: field.title })"
      icon="pi pi-plus"
      size="small"
      text
      @click="add"
    />
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
