<script setup lang="ts">
import Button from 'primevue/button'

/** Offers what has changed in a list, so that nothing moves under the pointer of whoever is about to act. */
defineProps<{ text: string }>()
defineEmits<{ take: [] }>()
</script>

<template>
  <div class="offer" role="status">
    <Button v-if="text" :label="text" icon="pi pi-refresh" size="small" rounded @click="$emit('take')" />
  </div>
</template>

<style scoped>
.offer {
  position: fixed;
  bottom: 1.1rem;
  left: 50%;
  transform: translateX(-50%);
  z-index: 4;
}
.offer .p-button {
  box-shadow: 0 2px 10px rgb(0 0 0 / 25%);
}
</style>
