<script setup lang="ts">
import { useIntervalFn } from '@vueuse/core'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { computed, ref } from 'vue'
import { api, ask, type Health } from '../api/client'
import { ago, fullTime, megabytes } from '../format'
import { usePage } from '../page'
import EmptyNote from '../parts/EmptyNote.vue'
import ProblemNote from '../parts/ProblemNote.vue'

const health = ref<Health>()
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
      <section class="sheet padded">
        <h2>Service and database</h2>
        <dl>
          <template v-for="[name, value] in lines" :key="name"
            ><dt>{{ name }}</dt
            ><dd>{{ value }}</dd></template
          >
        </dl>
        <p class="faint"
          >A backup is made with <code>homing backup</code>, and tried with <code>homing restore</code> into another database. Whether every device holds what
          it should is told by <code>homing verify</code>; how definitions meet rough days, by <code>homing rehearse</code>.</p
        >
      </section>
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
