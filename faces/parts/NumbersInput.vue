<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { onMounted, ref, useAttrs, watch } from 'vue'
import { useHalf } from '../half'
import { isWhole, readNumber, writeNumber } from '../numbers'
import { t } from '../words'

/** A box for several numbers, with a semicolon between them: a comma may stand before decimals. */
const props = defineProps<{ integer?: boolean }>()
const emit = defineEmits<{ wrong: [text: string] }>()
const value = defineModel<unknown>()
const textOf = (all: unknown) => (Array.isArray(all) ? all.map(writeNumber).join('; ') : '')
const half = useHalf(useAttrs().id)
const typed = ref(half.first ?? textOf(value.value))
onMounted(() => half.first !== undefined && type(half.first))
let own: unknown // what this box has set last

function type(text: string | undefined) {
  typed.value = text ?? ''
  const parts = typed.value.split(';').map((part) => part.trim())
  const numbers = parts.filter(Boolean).map(readNumber)
  const wrong =
    numbers.find((n) => n.wrong)?.wrong ??
    (props.integer && numbers.some((n) => n.value !== undefined && !isWhole(n.value)) ? t('Only whole numbers.') : '')
  emit('wrong', wrong)
  half.keep(wrong ? typed.value : undefined)
  if (!wrong) value.value = own = numbers.length ? numbers.map((n) => n.value) : undefined
}
watch(value, (now) => {
  if (textOf(now) !== textOf(own)) typed.value = textOf(now)
})
</script>

<template>
  <InputText
    :model-value="typed"
    inputmode="text"
    autocomplete="off"
    :placeholder="t('Numbers, with a ; between them')"
    fluid
    @update:model-value="type"
  />
</template>
