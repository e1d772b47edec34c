<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { ref, watch } from 'vue'

/** A box for a date, or for a moment, which is shown and typed in the zone of who looks and keeps its own until it is typed anew. */
defineOptions({ inheritAttrs: false })
const props = defineProps<{ moment?: boolean }>()
const emit = defineEmits<{ wrong: [text: string] }>()
const value = defineModel<unknown>()

const two = (n: number) => String(n).padStart(2, '0')
function localOf(text: unknown): string {
  if (typeof text !== 'string' || !text) return ''
  if (!props.moment) return text
  const at = new Date(text)
  if (Number.isNaN(at.getTime())) return ''
  const day = `${String(at.getFullYear()).padStart(4, '0')}-${two(at.getMonth() + 1)}-${two(at.getDate())}`
  return `${day}T${two(at.getHours())}:${two(at.getMinutes())}:${two(at.getSeconds())}`
}
/** Browsers leave out seconds that are 0. */
const withSeconds = (local: string) => (local.length === 16 ? `${local}:00` : local)

/** The moment with the offset of this zone then (RFC 3339). */
function momentOf(local: string): string {
  const at = new Date(local)
  const minutes = -at.getTimezoneOffset()
  const offset = minutes === 0 ? 'Z' : `${minutes < 0 ? '-' : '+'}${two(Math.floor(Math.abs(minutes) / 60))}:${two(Math.abs(minutes) % 60)}`
  return withSeconds(local) + offset
}
const typed = ref(localOf(value.value))
const zone = new Intl.DateTimeFormat(undefined, { timeZoneName: 'short' }).formatToParts(new Date()).find((part) => part.type === 'timeZoneName')?.value

function type(event: Event) {
  const box = event.target as HTMLInputElement
  typed.value = box.value
  emit('wrong', box.validity.badInput ? 'It is not complete.' : '')
  if (box.validity.badInput || withSeconds(box.value) === withSeconds(localOf(value.value))) return
  value.value = box.value ? (props.moment ? momentOf(box.value) : box.value) : undefined
}
watch(value, (now) => {
  if (typeof now !== 'string' || !props.moment) typed.value = localOf(now)
})
</script>

<template>
  <span class="moment">
    <InputText
      :model-value="typed"
      :type="moment ? 'datetime-local' : 'date'"
      :step="moment ? 1 : undefined"
      fluid
      v-bind="$attrs"
      @input="type"
      @blur="type"
    />
    <span v-if="moment" class="faint">{{ zone }}</span>
  </span>
</template>

<style scoped>
.moment {
  display: flex;
  gap: 0.6rem;
  align-items: center;
  font-weight: 400;
}
</style>
