<script setup lang="ts">
import Button from 'primevue/button'
import { useToast } from 'primevue/usetoast'
import { computed, reactive, ref } from 'vue'
import { api, ask, type SignedIn } from '../api/client'
import { useDeviceEvents } from '../live'
import { usePage } from '../page'
import EmptyNote from '../parts/EmptyNote.vue'
import PasswordInput from '../parts/PasswordInput.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import SignInList from '../parts/SignInList.vue'
import { useSession } from '../session'

const { session } = useSession()
const toast = useToast()
const rows = ref<SignedIn[]>()
const draft = reactive({ present: '', next: '', again: '' })
const wrong = ref('')
const saving = ref(false)
const own = computed(() => (rows.value ?? []).filter((one) => one.worker === session.value?.worker))

const { problem, refresh } = usePage(async () => {
  rows.value = (await ask(api.GET('/v1/sign-ins'))) ?? []
})
useDeviceEvents(refresh)

async function change() {
  if (draft.next !== draft.again) {
    wrong.value = 'The new password is not the same in both places.'
    return
  }
  saving.value = true
  try {
    await ask(api.PUT('/v1/session/password', { body: { present: draft.present, next: draft.next } }))
    Object.assign(draft, { present: '', next: '', again: '' })
    wrong.value = ''
    toast.add({ severity: 'success', summary: 'Changed', detail: 'Your other sign-ins have ended.', life: 6000 })
  } catch (error) {
    wrong.value = (error as Error).message
  }
  saving.value = false
  await refresh()
}
</script>

<template>
  <div class="page">
    <div class="head"
      ><h1>Your account</h1><span class="faint">{{ session?.worker }}, {{ session?.role }}</span></div
    >
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh" />
    <h2>Where you are signed in</h2>
    <div class="sheet">
      <SignInList v-if="own.length" :rows="own" @ended="refresh" />
      <EmptyNote v-else-if="rows" title="Nobody has signed in">While central is open, nobody needs to.</EmptyNote>
    </div>
    <template v-if="own.length">
      <h2 class="second">Change your password</h2>
      <form class="form sheet padded" @submit.prevent="change">
        <label>Present password<PasswordInput v-model="draft.present" autocomplete="current-password" /></label>
        <label
          >New password<PasswordInput v-model="draft.next" autocomplete="new-password" /><span class="hint"
            >At least 10 characters; several words that do not belong together are easy to keep in mind</span
          ></label
        >
        <label>New password again<PasswordInput v-model="draft.again" autocomplete="new-password" /></label>
        <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
        <div class="actions"><Button type="submit" label="Change" size="small" :loading="saving" :disabled="!draft.present || !draft.next" /></div>
      </form>
    </template>
  </div>
</template>

<style scoped>
.second {
  margin: 1.6rem 0 0.6rem;
}
form {
  max-width: 30rem;
}
.form p {
  margin: 0;
}
</style>
