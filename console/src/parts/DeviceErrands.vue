<script setup lang="ts">
import Button from 'primevue/button'
import { useConfirm } from 'primevue/useconfirm'
import { useToast } from 'primevue/usetoast'
import { computed } from 'vue'
import { api, ask, type DeviceDetail } from '../api/client'
import { useCollections } from '../collections'
import { ago, fullTime, plural } from '../format'

/** What a device is asked to do with its next exchange, and what became of it. */
const props = defineProps<{ device: DeviceDetail; may: boolean }>()
const emit = defineEmits<{ done: [] }>()
const confirm = useConfirm()
const toast = useToast()
const { find } = useCollections()

type Errand = NonNullable<DeviceDetail['errands']>[number]
type What = 'verify' | 'erase'
const words: Record<string, string> = { verify: 'compare what it holds with central', erase: 'erase its store' }
const open = (what: What) => props.device.errands?.some((e) => e.what === what && !e.done)
const found = (e: Errand) => (e.verified ?? []).filter((v) => v.differences > 0)
const records = (e: Errand) => (e.verified ?? []).reduce((sum, v) => sum + v.records, 0)
const owed = computed(() => {
  const d = props.device
  const parts = [d.unsent ? `${d.unsent} not sent yet` : '', d.refused ? `${d.refused} refused` : '', d.waiting ? `${d.waiting} waiting` : ''].filter(Boolean)
  if (d.unsent === undefined) return 'It has not said yet what it holds.'
  return parts.length ? `When it was last here it held ${parts.join(', ')}.` : 'When it was last here, all of its changes had been accepted.'
})

async function act(call: Promise<unknown>, summary: string) {
  try {
    await call
    toast.add({ severity: 'success', summary, life: 4000 })
  } catch (error) {
    toast.add({ severity: 'error', summary: 'Not done', detail: (error as Error).message, life: 9000 })
  }
  emit('done')
}
const path = (what: What) => ({ params: { path: { id: props.device.id, what } } })
const send = (what: What) => act(ask(api.PUT('/v1/devices/{id}/errands/{what}', path(what))), 'It is asked with its next exchange')
const takeBack = (what: What) => act(ask(api.DELETE('/v1/devices/{id}/errands/{what}', path(what))), 'Taken back')
function erase() {
  confirm.require({
    header: `Let ${props.device.name} erase its store?`,
    message: `With its next exchange the device sends what it has, and deletes its store as soon as central has accepted all of it. ${owed.value} What is refused keeps the store until it is mended or discarded there. This can be taken back until the device comes.`,
    acceptLabel: 'Ask it to',
    rejectLabel: 'Cancel',
    acceptProps: { severity: 'danger' },
    rejectProps: { severity: 'secondary', autofocus: true },
    accept: () => void send('erase'),
  })
}
</script>

<template>
  <section v-if="may || device.errands?.length" class="sheet padded">
    <h2>What it is asked to do</h2>
    <p v-if="!device.errands?.length" class="faint">Nothing.</p>
    <ul>
      <li v-for="e in device.errands" :key="e.id">
        To {{ words[e.what] ?? e.what }}<span class="faint" :title="fullTime(e.asked_at)">, asked {{ ago(e.asked_at) }} by {{ e.by || 'central' }}</span>
        <div v-if="!e.answered_at" class="faint">{{
          device.seen_at && device.seen_at > e.asked_at
            ? 'It was here since and said nothing of it: an older program does not know how.'
            : 'It has not come since.'
        }}</div>
        <div v-else-if="!e.done" class="warn">Not done yet: {{ e.why }}</div>
        <div v-else-if="e.what === 'erase'" class="good" :title="fullTime(e.answered_at)">Erased {{ ago(e.answered_at) }}.</div>
        <div v-else-if="!found(e).length" class="good" :title="fullTime(e.answered_at)"
          >Done {{ ago(e.answered_at) }}: {{ plural(records(e), 'record') }}, all as central has them.</div
        >
        <div v-else class="warn" :title="fullTime(e.answered_at)"
          >Done {{ ago(e.answered_at) }}, and fetched anew:
          {{
            found(e)
              .map((v) => `${v.mended} of ${find(v.collection)?.title ?? v.collection}`)
              .join(', ')
          }}.</div
        >
        <Button v-if="may && !e.done" label="Take back" size="small" text @click="takeBack(e.what as What)" />
      </li>
    </ul>
    <div v-if="may" class="actions">
      <Button
        v-if="!open('verify') && !device.revoked_at"
        label="Let it verify"
        icon="pi pi-check-circle"
        size="small"
        severity="secondary"
        @click="send('verify')"
      />
      <Button v-if="!open('erase')" label="Let it erase its store" icon="pi pi-trash" size="small" severity="secondary" @click="erase" />
    </div>
  </section>
</template>

<style scoped>
ul {
  list-style: none;
  margin: 0 0 0.6rem;
  padding: 0;
  display: grid;
  gap: 0.5rem;
  overflow-wrap: anywhere;
}
p {
  margin: 0 0 0.6rem;
}
</style>
