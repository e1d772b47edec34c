<script setup lang="ts">
import PasswordInput from './PasswordInput.vue'
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { ref } from 'vue'
import { useSession } from '../session'

const props = defineProps<{ worker?: string }>()
const { signIn } = useSession()
const worker = ref(props.worker ?? '')
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
  <form class="form" @submit.prevent="submit">
    <label>Name<InputText v-model="worker" name="worker" autocomplete="username" :autofocus="!props.worker || undefined" autocapitalize="none" /></label>
    <label for="password"
      >Password<PasswordInput id="password" v-model="password" name="password" autocomplete="current-password" :autofocus="props.worker ? true : undefined"
    /></label>
    <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
    <Button type="submit" label="Sign in" :loading="busy" />
  </form>
</template>
