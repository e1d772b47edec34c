<script setup lang="ts">
defineProps<{ title: string }>()
</script>

<template>
  <div class="empty">
    <p class="title">{{ title }}</p>
    <p class="faint"><slot /></p>
  </div>
</template>

<style scoped>
.empty {
  padding: 2.2rem 1rem;
  text-align: center;
}
.empty p {
  margin: 0.2rem auto;
  max-width: 34rem;
}
.title {
  font-weight: 600;
}
</style>
