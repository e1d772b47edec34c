<script setup lang="ts">
import { onMounted, ref } from 'vue'

/** A box for lines of text, which grows with them. */
defineProps<{ modelValue?: string | undefined; fluid?: boolean; invalid?: boolean; autoResize?: boolean }>()
const emit = defineEmits<{ 'update:modelValue': [text: string] }>()
const box = ref<HTMLTextAreaElement>()
function grow() {
  if (!box.value) return
  box.value.style.height = 'auto'
  box.value.style.height = `${box.value.scrollHeight + 2}px`
}
onMounted(grow)
function type(event: Event) {
  emit('update:modelValue', (event.target as HTMLTextAreaElement).value)
  grow()
}
</script>

<template>
  <textarea ref="box" class="box" :value="modelValue" :aria-invalid="invalid || undefined" @input="type" />
</template>
