<script setup lang="ts">
import Button from 'primevue/button'

defineProps<{ problem: string }>()
defineEmits<{ retry: [] }>()
</script>

<template>
  <div class="problem sheet" role="alert">
    <span>{{ problem }}</span>
    <Button label="Try again" size="small" severity="secondary" @click="$emit('retry')" />
  </div>
</template>

<style scoped>
.problem {
  display: flex;
  gap: 1rem;
  align-items: center;
  justify-content: space-between;
  padding: 0.6rem 0.9rem;
  margin-bottom: 0.9rem;
  border-left: 4px solid var(--bad);
}
</style>
