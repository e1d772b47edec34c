<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Password from 'primevue/password'
import { ref } from 'vue'
import { useSession } from '../session'

defineProps<{ unreachable: boolean }>()
defineEmits<{ retry: [] }>()

const { signIn } = useSession()
const worker = ref('')
const password = ref('')
const busy = ref(false)
const wrong = ref('')

async function submit() {
  if (!worker.value || !password.value) {
    wrong.value = 'Both name and password are needed.'
    return
  }
  busy.value = true
  wrong.value = ''
  try {
    await signIn(worker.value, password.value)
  } catch (error) {
    wrong.value = (error as Error).message
    password.value = ''
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <div class="stage">
    <svg class="hills" viewBox="0 0 1200 260" preserveAspectRatio="none" aria-hidden="true">
      <path class="far" d="M0 260V150l140-70 120 60 170-120 150 110 120-60 180 100 140-70 180 80v80z" />
      <path class="near" d="M0 260v-50l180-40 200 50 220-90 190 80 170-40 240 60v30z" />
      <path class="way" d="M40 250c160-60 260 10 400-40s180-60 300-20 240 10 420-60" />
    </svg>
    <form class="sheet box" @submit.prevent="submit">
      <h1>Homing</h1>
      <p class="faint">Sign in to see what came home.</p>
      <div v-if="unreachable" class="bad" role="alert">
        Central cannot be reached.
        <Button label="Try again" size="small" severity="secondary" @click="$emit('retry')" />
      </div>
      <div class="form">
        <label>Name<InputText v-model="worker" name="worker" autocomplete="username" autofocus autocapitalize="none" /></label>
        <label
          >Password<Password
            v-model="password"
            :feedback="false"
            toggle-mask
            fluid
            input-id="password"
            :input-props="{ autocomplete: 'current-password', name: 'password' }"
        /></label>
        <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
        <Button type="submit" label="Sign in" :loading="busy" />
      </div>
    </form>
  </div>
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
