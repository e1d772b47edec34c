<script setup lang="ts">
import type { RecordRow } from '../api/client'

/** What a record wants attention for, in the words of its definition. */
defineProps<{ record: RecordRow }>()
</script>

<template>
  <span v-if="record.attention" class="attention" :class="record.attention.grade">{{ record.attention.say }}</span>
</template>

<style scoped>
.attention {
  display: inline-block;
  padding: 0 0.4rem;
  border: 1px solid currentColor;
  border-radius: 4px;
  font-size: 0.82rem;
  font-weight: 600;
  white-space: nowrap;
}
.urgent {
  color: var(--bad);
}
.soon {
  color: var(--warn);
}
.note {
  color: var(--faint);
}
</style>
