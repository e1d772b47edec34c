<script setup lang="ts">
import Textarea from 'primevue/textarea'
import { onMounted, ref, useAttrs, watch } from 'vue'
import { readJSON, writeJSON } from '../../generate/exact'
import { useHalf } from '../half'
import { t } from '../words'

/** A box for a value that no other input fits: it is written as JSON. */
const emit = defineEmits<{ wrong: [text: string] }>()
const value = defineModel<unknown>()
const half = useHalf(useAttrs().id)
const textOf = (of: unknown) => (of === undefined ? '' : writeJSON([of]).slice(1, -1))
const typed = ref(half.first ?? textOf(value.value))
onMounted(() => half.first !== undefined && type(half.first))

let own: unknown // what this box has set last
function type(text: string | undefined) {
  typed.value = text ?? ''
  try {
    value.value = own = typed.value.trim() === '' ? undefined : readJSON(typed.value)
    half.keep(undefined)
    emit('wrong', '')
  } catch {
    half.keep(typed.value)
    emit('wrong', t('This is not JSON.'))
  }
}
// What is set from elsewhere, such as a line that was drawn, shows.
watch(value, (now) => {
  if (textOf(now) === textOf(own)) return
  own = now
  typed.value = textOf(now)
  half.keep(undefined)
  emit('wrong', '')
})
</script>

<template>
  <Textarea :model-value="typed" rows="3" fluid class="mono" @update:model-value="type" />
</template>
