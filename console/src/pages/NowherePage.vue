<script setup lang="ts">
import EmptyNote from '../parts/EmptyNote.vue'
</script>

<template>
  <div class="page">
    <div class="head"><h1>No such page</h1></div>
    <div class="sheet"
      ><EmptyNote title="There is nothing at this address"
        ><RouterLink to="/">Overview</RouterLink> · <RouterLink to="/records">All collections</RouterLink></EmptyNote
      ></div
    >
  </div>
</template>
