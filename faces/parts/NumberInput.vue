<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { onMounted, ref, useAttrs, watch } from 'vue'
import type { Numeric } from '../../generate/exact'
import { useHalf } from '../half'
import { isWhole, readNumber, writeNumber } from '../numbers'
import { t } from '../words'

/** A box for a number, which is a text while it is typed: nothing but typing changes it, and no digit is lost. */
const props = defineProps<{ integer?: boolean; min?: number; max?: number }>()
const emit = defineEmits<{ wrong: [text: string] }>()
const value = defineModel<unknown>()
const half = useHalf(useAttrs().id)
const typed = ref(half.first ?? writeNumber(value.value))
onMounted(() => half.first !== undefined && emit('wrong', read(half.first).wrong ?? ''))

function read(text: string): { value?: Numeric; wrong?: string } {
  const got = readNumber(text)
  if (got.wrong || got.value === undefined) return got
  if (props.integer && !isWhole(got.value)) return { wrong: t('Only whole numbers.') }
  if (props.min !== undefined && Number(got.value) < props.min)
    return { wrong: t('From {least} on.', { least: props.min }) }
  if (props.max !== undefined && Number(got.value) > props.max)
    return { wrong: t('Up to {most}.', { most: props.max }) }
  return got
}

function type(text: string | undefined) {
  typed.value = text ?? ''
  const got = read(typed.value)
  emit('wrong', got.wrong ?? '')
  half.keep(got.wrong ? typed.value : undefined)
  if (!got.wrong) value.value = got.value
}
// What others set shows; what is the same as what is typed leaves it as it is.
watch(value, (now) => {
  if (String(readNumber(typed.value).value ?? '') !== String(now ?? '') && !read(typed.value).wrong)
    typed.value = writeNumber(now)
})
</script>

<template>
  <InputText :model-value="typed" inputmode="decimal" autocomplete="off" fluid @update:model-value="type" />
</template>
