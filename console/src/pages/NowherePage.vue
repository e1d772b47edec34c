<script setup lang="ts">
import EmptyNote from '../parts/EmptyNote.vue'
</script>

<template>
  <div class="page"
    ><div class="sheet"
      ><EmptyNote title="There is nothing at this address"><RouterLink to="/">All collections</RouterLink></EmptyNote></div
    ></div
  >
</template>
