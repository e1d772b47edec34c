<script setup lang="ts">
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import InputText from 'primevue/inputtext'
import ToggleSwitch from 'primevue/toggleswitch'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, type Exchange } from '../api/client'
import { ago, fullTime, kilobytes } from '../format'
import { useDeviceEvents } from '../live'
import { useNarrow } from '../narrow'
import { usePage } from '../page'
import EmptyNote from '../parts/EmptyNote.vue'
import OfferNews from '../parts/OfferNews.vue'
import ProblemNote from '../parts/ProblemNote.vue'

const exchanges = ref<Exchange[]>()
const narrow = useNarrow()

const atOnce = 50
const more = ref(false)
const newer = ref(0)
const loadingMore = ref(false)

const route = useRoute()
const router = useRouter()
const text = (name: string) => String(route.query[name] ?? '')
const go = (query: Record<string, string | undefined>) => router.replace({ query: { ...route.query, ...query } })
const asked = computed(() => ({ worker: text('worker') || undefined, refused: text('refused') === 'true' || undefined, limit: atOnce }))
const get = async (before?: string) => (await ask(api.GET('/v1/exchanges', { params: { query: { ...asked.value, before } } }))) ?? []

const { problem, refresh } = usePage(async (counts) => {
  const all = await get()
  if (!counts()) return
  exchanges.value = all
  more.value = all.length === atOnce
  newer.value = 0
})
watch(
  () => route.query,
  () => refresh(),
)
// What is under way changes in its row; what is new is offered.
useDeviceEvents(async () => {
  if (!exchanges.value?.length) return refresh()
  const latest = await get().catch(() => [] as Exchange[])
  const known = new Map(exchanges.value.map((e) => [e.id, e]))
  for (const e of latest) if (known.has(e.id)) Object.assign(known.get(e.id)!, e)
  newer.value = latest.filter((e) => !known.has(e.id)).length
})
async function earlier() {
  loadingMore.value = true
  const rest = await get(exchanges.value?.at(-1)?.last_at).catch((error: Error) => {
    problem.value = error.message
  })
  loadingMore.value = false
  if (!rest) return
  exchanges.value = [...(exchanges.value ?? []), ...rest]
  more.value = rest.length === atOnce
}

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
    <form class="filters" @submit.prevent>
      <label for="worker">Of devices of</label>
      <InputText
        id="worker"
        :model-value="text('worker')"
        size="small"
        placeholder="anybody"
        @change="go({ worker: ($event.target as HTMLInputElement).value.trim() || undefined })"
      />
      <ToggleSwitch :model-value="text('refused') === 'true'" input-id="refused" @update:model-value="go({ refused: $event ? 'true' : undefined })" />
      <label for="refused">only those with changes that were refused or wait</label>
    </form>
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh" />
    <div v-if="exchanges" class="sheet">
      <EmptyNote v-if="!exchanges.length" :title="Object.keys(route.query).length ? 'No exchange fits' : 'No device has exchanged anything yet'"
        >Each run of a device with central is listed here: what it brought, what it got, and what became of it.</EmptyNote
      >
      <div v-else-if="narrow" class="cards">
        <div v-for="e in exchanges" :key="e.id" class="card">
          <RouterLink :to="{ name: 'exchange', params: { id: e.id } }">{{ e.device_name }}</RouterLink>{{ ' '
          }}<span class="faint">{{ e.worker }} · {{ ago(e.started_at) }}</span>
          <div class="faint">{{
            numbers
              .filter(([key]) => e[key])
              .map(([key, title]) => `${title.toLowerCase()} ${e[key]}`)
              .join(' · ') || 'nothing to exchange'
          }}</div>
        </div>
      </div>
      <DataTable v-else :value="exchanges" data-key="id" size="small">
        <Column header="Started"
          ><template #body="{ data }"
            ><RouterLink :to="{ name: 'exchange', params: { id: data.id } }" :title="fullTime(data.started_at)">{{
              ago(data.started_at)
            }}</RouterLink></template
          ></Column
        >
        <Column header="Device"
          ><template #body="{ data }"
            ><RouterLink :to="{ name: 'device', params: { id: data.device } }">{{ data.device_name }}</RouterLink
            >{{ ' ' }}<span class="faint">{{ data.worker }}</span></template
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
    <Button v-if="more" label="Earlier ones" severity="secondary" size="small" class="more" :loading="loadingMore" @click="earlier" />
    <OfferNews :text="newer ? `${newer === atOnce ? 'Many' : newer} newer: show` : ''" @take="refresh" />
  </div>
</template>

<style scoped>
.more {
  margin-top: 0.8rem;
}
.cards .card {
  cursor: default;
}
</style>
