<script setup lang="ts">
import { useIntervalFn } from '@vueuse/core'
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { useToast } from 'primevue/usetoast'
import { computed, ref } from 'vue'
import { api, ask, type Health } from '../api/client'
import { ago, fullTime, megabytes, plural } from '../format'
import { usePage } from '../page'
import EmptyNote from '../parts/EmptyNote.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import RehearsePanel from '../parts/RehearsePanel.vue'

const toast = useToast()
const health = ref<Health>()
const day = 86_400_000
const old = computed(() => {
  const last = health.value?.backups?.[0]
  return last && Date.now() - new Date(last.made_at).getTime() > 2 * day
})
/** Every device that may work is asked to compare what it holds with central; each says what it found on its own page. */
async function verifyAll() {
  try {
    const devices = ((await ask(api.GET('/v1/devices'))) ?? []).filter((d) => !d.revoked_at)
    for (const d of devices) await ask(api.PUT('/v1/devices/{id}/errands/{what}', { params: { path: { id: d.id, what: 'verify' } } }))
    toast.add({ severity: 'success', summary: `${plural(devices.length, 'device')} asked`, detail: 'Each verifies with its next exchange.', life: 6000 })
  } catch (error) {
    toast.add({ severity: 'error', summary: 'Not all were asked', detail: (error as Error).message, life: 9000 })
  }
}
const { problem, refresh } = usePage(async () => {
  health.value = await ask(api.GET('/v1/health'))
})
useIntervalFn(() => document.hidden || refresh(), 15_000)

const lines = computed(() => {
  const h = health.value
  if (!h) return []
  return [
    ['Central', h.build || 'of no named version'],
    ['Up since', fullTime(h.started_at)],
    ['Its clock', fullTime(h.now)],
    ['Memory', megabytes(h.memory)],
    ['Listening', `${h.listeners} open ${h.listeners === 1 ? 'stream' : 'streams'} of live events`],
    ['PostgreSQL', h.postgresql],
    ['On disk', megabytes(h.bytes)],
    ['Connections', `${h.connections} of at most ${h.most_connections}`],
    ['Longest transaction', h.oldest_transaction < 1 ? 'none that lasts' : `open for ${Math.round(h.oldest_transaction)} s`],
    ['Database', h.generation],
    ['Restored', h.restored_at ? fullTime(h.restored_at) : 'never'],
  ] as const
})
</script>

<template>
  <div class="page">
    <div class="head"><h1>Health</h1><span class="faint">of central itself</span></div>
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh" />
    <div v-if="health" class="columns">
      <div class="stack">
        <section class="sheet padded">
          <h2>Service and database</h2>
          <dl>
            <template v-for="[name, value] in lines" :key="name"
              ><dt>{{ name }}</dt
              ><dd>{{ value }}</dd></template
            >
          </dl>
        </section>
        <section class="sheet padded">
          <h2>Backups</h2>
          <p v-if="!health.backups?.length" class="warn">None was written yet. <code>homing backup</code> writes one while central runs.</p>
          <p v-else-if="old" class="warn"
            >The last one is of {{ ago(health.backups[0]!.made_at) }}: <code>homing backup</code> writes one while central runs.</p
          >
          <ul>
            <li v-for="b in health.backups" :key="b.made_at"
              ><span :title="fullTime(b.made_at)">{{ ago(b.made_at) }}</span> <span class="faint">{{ megabytes(b.bytes) }} in</span>
              <code>{{ b.file }}</code></li
            >
          </ul>
          <h2 class="second">Do the devices hold what they should?</h2>
          <p class="faint">Each compares all that it holds with central, with its next exchange, and fetches anew what differs. Its page says what it found.</p>
          <Button label="Let all devices verify" icon="pi pi-check-circle" size="small" severity="secondary" @click="verifyAll" />
        </section>
      </div>
      <section class="sheet">
        <DataTable :value="health.tables" data-key="name" size="small">
          <Column field="name" header="Table" />
          <Column header="Rows, about" class="number"
            ><template #body="{ data }">{{ data.rows.toLocaleString() }}</template></Column
          >
          <Column header="On disk" class="number"
            ><template #body="{ data }">{{ megabytes(data.bytes) }}</template></Column
          >
        </DataTable>
      </section>
      <RehearsePanel class="wide" />
      <section class="sheet padded wide">
        <h2>Latest warnings and errors of this instance</h2>
        <EmptyNote v-if="!health.troubles?.length" title="Nothing went wrong since it started">Central's log has all of it.</EmptyNote>
        <ul v-else>
          <li v-for="(t, n) in health.troubles" :key="n"
            ><span class="faint" :title="fullTime(t.at)">{{ ago(t.at) }}</span> <b :class="t.level === 'ERROR' ? 'bad' : 'warn'">{{ t.level.toLowerCase() }}</b>
            {{ t.message }} <span class="faint mono">{{ t.detail }}</span></li
          >
        </ul>
      </section>
    </div>
  </div>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: repeat(2, minmax(0, 1fr));
  gap: 1rem;
  align-items: start;
}
.stack {
  display: grid;
  gap: 1rem;
}
.second {
  margin-top: 1.2rem;
}
p {
  margin: 0 0 0.6rem;
}
.wide {
  grid-column: 1 / -1;
}
dl {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 0.35rem 1rem;
  margin: 0 0 0.8rem;
}
dt {
  color: var(--faint);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  gap: 0.35rem;
  overflow-wrap: anywhere;
}
@media (max-width: 900px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
