<script setup lang="ts">
/** A button that does something which may take a while. */
defineProps<{ label: string; loading?: boolean; text?: boolean; size?: string; icon?: string; severity?: string }>()
</script>

<template>
  <button
    class="btn"
    :class="text ? 'plain' : severity ? '' : 'main'"
    :disabled="loading"
    :aria-busy="loading || undefined"
    >{{ label }}</button
  >
</template>
