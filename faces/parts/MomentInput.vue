<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { ref, watch } from 'vue'
import { localOf, momentOf, withSeconds, zone } from '../moments'
import { t } from '../words'

/** A box for a date, or for a moment, which is shown and typed in the zone of who looks and keeps its own until it is typed anew. */
defineOptions({ inheritAttrs: false })
const props = defineProps<{ moment?: boolean }>()
const emit = defineEmits<{ wrong: [text: string] }>()
const value = defineModel<unknown>()

const shown = (text: unknown) => (props.moment ? localOf(text) : typeof text === 'string' ? text : '')
const typed = ref(shown(value.value))

function type(event: Event) {
  const box = event.target as HTMLInputElement
  typed.value = box.value
  emit('wrong', box.validity.badInput ? t('It is not complete.') : '')
  if (box.validity.badInput || withSeconds(box.value) === withSeconds(shown(value.value))) return
  value.value = box.value ? (props.moment ? momentOf(box.value) : box.value) : undefined
}
watch(value, (now) => {
  if (typeof now !== 'string' || !props.moment) typed.value = shown(now)
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
    <span v-if="moment" class="faint">{{ zone() }}</span>
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
