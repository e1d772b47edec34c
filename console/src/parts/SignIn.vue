<script setup lang="ts">
import Button from 'primevue/button'
import SignInForm from './SignInForm.vue'

defineProps<{ unreachable: boolean }>()
defineEmits<{ retry: [] }>()
</script>

<template>
  <main class="stage">
    <svg class="hills" viewBox="0 0 1200 260" preserveAspectRatio="none" aria-hidden="true">
      <path class="far" d="M0 260V150l140-70 120 60 170-120 150 110 120-60 180 100 140-70 180 80v80z" />
      <path class="near" d="M0 260v-50l180-40 200 50 220-90 190 80 170-40 240 60v30z" />
      <path class="way" d="M40 250c160-60 260 10 400-40s180-60 300-20 240 10 420-60" />
    </svg>
    <div class="sheet box">
      <h1>Homing</h1>
      <p class="faint">Sign in to see what came home.</p>
      <div v-if="unreachable" class="bad" role="alert">
        Central cannot be reached.
        <Button label="Try again" size="small" severity="secondary" @click="$emit('retry')" />
      </div>
      <SignInForm />
    </div>
  </main>
</template>

<style scoped>
.stage {
  min-height: 100vh;
  display: grid;
  place-items: center;
  padding: 1rem;
  position: relative;
  overflow: hidden;
}
.box {
  width: min(23rem, 100%);
  padding: 1.6rem 1.7rem 1.8rem;
  position: relative;
  margin-bottom: 6rem;
}
.box p {
  margin: 0.2rem 0 1rem;
}
.wrong {
  margin: 0 !important;
}
.hills {
  position: absolute;
  inset: auto 0 0 0;
  width: 100%;
  height: 38vh;
}
.far {
  fill: var(--p-surface-200);
}
.near {
  fill: var(--p-surface-300);
}
.way {
  fill: none;
  stroke: var(--accent);
  stroke-width: 2.5;
  stroke-dasharray: 2 9;
  stroke-linecap: round;
  vector-effect: non-scaling-stroke;
}
.dark .far {
  fill: var(--p-surface-900);
}
.dark .near {
  fill: var(--p-surface-800);
}
</style>
