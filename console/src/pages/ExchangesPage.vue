<script setup lang="ts">
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { ref } from 'vue'
import { api, ask, type Exchange } from '../api/client'
import { ago, fullTime, kilobytes } from '../format'
import { useDeviceEvents } from '../live'
import { useNarrow } from '../narrow'
import { usePage } from '../page'
import EmptyNote from '../parts/EmptyNote.vue'
import ProblemNote from '../parts/ProblemNote.vue'

const exchanges = ref<Exchange[]>()
const narrow = useNarrow()

const { problem, refresh } = usePage(async () => {
  exchanges.value = (await ask(api.GET('/v1/exchanges', { params: { query: { limit: 200 } } }))) ?? []
})
useDeviceEvents(refresh)

function took(e: Exchange): string {
  const ms = new Date(e.last_at).getTime() - new Date(e.started_at).getTime()
  return ms < 1000 ? `${ms} ms` : `${(ms / 1000).toFixed(1)} s`
}
const numbers = [
  ['applied', 'Applied'],
  ['merged', 'Merged'],
  ['held', 'Held'],
  ['refused', 'Refused'],
  ['waiting', 'Waiting'],
  ['repeated', 'Repeated'],
  ['delivered', 'Pulled'],
] as const
</script>

<template>
  <div class="page">
    <div class="head"><h1>Exchanges</h1><span class="faint">as central saw them, the latest first</span></div>
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh" />
    <div v-if="exchanges" class="sheet">
      <EmptyNote v-if="!exchanges.length" title="No device has exchanged anything yet"
        >Each run of a device with central is listed here: what it brought, what it got, and what became of it.</EmptyNote
      >
      <div v-else-if="narrow" class="cards">
        <div v-for="e in exchanges" :key="e.id" class="card">
          <RouterLink :to="{ name: 'exchange', params: { id: e.id } }">{{ e.device_name }}</RouterLink>
          <span class="faint">{{ e.worker }} · {{ ago(e.started_at) }}</span>
          <div class="faint">{{
            numbers
              .filter(([key]) => e[key])
              .map(([key, title]) => `${title.toLowerCase()} ${e[key]}`)
              .join(' · ') || 'nothing to exchange'
          }}</div>
        </div>
      </div>
      <DataTable v-else :value="exchanges" data-key="id" size="small" paginator :rows="25" :always-show-paginator="false">
        <Column header="Started"
          ><template #body="{ data }"
            ><RouterLink :to="{ name: 'exchange', params: { id: data.id } }" :title="fullTime(data.started_at)">{{
              ago(data.started_at)
            }}</RouterLink></template
          ></Column
        >
        <Column header="Device"
          ><template #body="{ data }"
            >{{ data.device_name }} <span class="faint">{{ data.worker }}</span></template
          ></Column
        >
        <Column v-for="[key, title] in numbers" :key="key" :header="title" class="number">
          <template #body="{ data }"
            ><span :class="{ faint: !data[key], bad: key === 'refused' && data[key], warn: key === 'waiting' && data[key] }">{{ data[key] }}</span></template
          >
        </Column>
        <Column header="In" class="number"
          ><template #body="{ data }">{{ kilobytes(data.bytes_in) }}</template></Column
        >
        <Column header="Out" class="number"
          ><template #body="{ data }">{{ kilobytes(data.bytes_out) }}</template></Column
        >
        <Column header="Took" class="number"
          ><template #body="{ data }">{{ took(data) }}</template></Column
        >
      </DataTable>
    </div>
  </div>
</template>

<style scoped>
.cards .card {
  cursor: default;
}
</style>
