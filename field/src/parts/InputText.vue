<script setup lang="ts">
/** A box for a line of text: the device's own, which brings the keyboard that it says. */
defineProps<{ modelValue?: string | undefined; fluid?: boolean; invalid?: boolean }>()
const emit = defineEmits<{ 'update:modelValue': [text: string] }>()
</script>

<template>
  <input
    class="box"
    :value="modelValue"
    :aria-invalid="invalid || undefined"
    @input="emit('update:modelValue', ($event.target as HTMLInputElement).value)"
  />
</template>
