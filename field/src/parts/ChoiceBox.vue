<script setup lang="ts">
import { computed } from 'vue'
import { t } from '../../../faces/words'
import { sameValue } from '../values'

/** One of some, or many of them: as buttons while they are few, otherwise as the device's own list. */
const props = defineProps<{
  name: string
  title: string
  choices: { value: unknown; label: string }[]
  required?: boolean
  many?: boolean
}>()
const value = defineModel<unknown>()
const few = 7
const asButtons = computed(() => props.many || props.choices.length <= few)
const all = computed(() => (Array.isArray(value.value) ? (value.value as unknown[]) : []))
const on = (choice: unknown) =>
  props.many
    ? all.value.some((one) => sameValue(one, choice))
    : value.value !== undefined && sameValue(value.value, choice)
const position = computed(() => props.choices.findIndex((one) => on(one.value)))

function toggle(choice: unknown) {
  if (props.many) {
    const next = on(choice) ? all.value.filter((one) => !sameValue(one, choice)) : [...all.value, choice]
    value.value = next.length ? next : undefined
  } else value.value = on(choice) && !props.required ? undefined : choice
}
</script>

<template>
  <div v-if="asButtons" class="chips">
    <button
      v-for="(one, n) in choices"
      :key="n"
      type="button"
      class="chip"
      :aria-pressed="on(one.value)"
      @click="toggle(one.value)"
      >{{ one.label }}</button
    >
  </div>
  <select
    v-else
    :id="name"
    :value="position"
    :aria-label="title"
    @change="value = choices[Number(($event.target as HTMLSelectElement).value)]?.value"
  >
    <option :value="-1">{{ required ? t('Choose …') : t('nothing') }}</option>
    <option v-for="(one, n) in choices" :key="n" :value="n">{{ one.label }}</option>
  </select>
</template>
