<script setup lang="ts">
import Button from 'primevue/button'
import { useConfirm } from 'primevue/useconfirm'
import { useToast } from 'primevue/usetoast'
import { api, ask, type SignedIn } from '../api/client'
import { ago, fullTime } from '../format'

/** Sign-ins that hold, with a way to end each. */
const { rows, named = false } = defineProps<{ rows: SignedIn[]; named?: boolean }>()
const emit = defineEmits<{ ended: [] }>()
const confirm = useConfirm()
const toast = useToast()

function end(one: SignedIn) {
  confirm.require({
    header: one.own ? 'End this sign-in?' : `End the sign-in of ${one.worker}?`,
    message: one.own ? 'It is the one that you use now.' : 'Whoever uses it has to sign in again. What they were typing is not saved.',
    acceptLabel: 'End it',
    rejectLabel: 'Cancel',
    acceptProps: { severity: 'danger' },
    rejectProps: { severity: 'secondary' },
    accept: async () => {
      try {
        await ask(api.DELETE('/v1/sign-ins/{id}', { params: { path: { id: one.id } } }))
      } catch (error) {
        toast.add({ severity: 'error', summary: 'Not done', detail: (error as Error).message, life: 9000 })
      }
      emit('ended')
    },
  })
}
</script>

<template>
  <ul class="list">
    <li v-for="one in rows" :key="one.id">
      <span class="what">
        <b v-if="named">{{ one.worker }}</b>
        <span>from {{ one.address || 'this machine' }}</span>
        <span v-if="one.own" class="good">this one</span>
        <span class="faint agent" :title="one.agent">{{ one.agent || 'an unnamed program' }}</span>
      </span>
      <span class="faint" :title="fullTime(one.created_at)">{{ ago(one.created_at) }}, holds until {{ fullTime(one.expires_at) }}</span>
      <Button label="End" size="small" text severity="secondary" :aria-label="`End the sign-in of ${one.worker} from ${one.address}`" @click="end(one)" />
    </li>
  </ul>
</template>

<style scoped>
.list {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  display: flex;
  flex-wrap: wrap;
  gap: 0.2rem 1rem;
  align-items: center;
  padding: 0.35rem 1.1rem;
  border-top: 1px solid var(--line);
}
li:first-child {
  border-top: 0;
}
.what {
  flex: 1 1 22rem;
  display: flex;
  flex-wrap: wrap;
  gap: 0.2rem 0.6rem;
  min-width: 0;
}
.agent {
  max-width: min(26rem, 100%);
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
</style>
