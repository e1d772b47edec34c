<script setup lang="ts">
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { api, ask, type Delta, type ExchangeDetail, type Fields } from '../api/client'
import { useCollections } from '../collections'
import { fullTime, kilobytes, plural, shown } from '../format'
import { usePage } from '../page'
import EmptyNote from '../parts/EmptyNote.vue'
import ProblemNote from '../parts/ProblemNote.vue'

const route = useRoute()
const { collections, load, find } = useCollections()
const detail = ref<ExchangeDetail>()

const { problem, refresh } = usePage(async () => {
  if (!collections.value) await load()
  detail.value = await ask(api.GET('/v1/exchanges/{exchange}', { params: { path: { exchange: String(route.params.id) }, query: { limit: 1000 } } }))
})
watch(() => route.params.id, refresh)

type Carried = NonNullable<ExchangeDetail['carried']>[number]
const title = (c: Carried) => find(c.collection)?.title ?? c.collection
function lines(c: Carried): [string, string][] {
  const fieldOf = (name: string) => find(c.collection)?.fields?.find((f) => f.name === name)
  const name = (field: string) => fieldOf(field)?.title ?? field
  if (!c.up) return Object.entries((c.fields ?? {}) as Fields).map(([field, value]) => [name(field), shown(fieldOf(field), value)])
  return Object.entries((c.fields ?? {}) as Delta).map(([field, edit]) => [
    name(field),
    edit.from === undefined
      ? shown(fieldOf(field), edit.to)
      : `${shown(fieldOf(field), edit.from)} → ${edit.to === undefined ? '(none)' : shown(fieldOf(field), edit.to)}`,
  ])
}
const tone = (what: string) => (what === 'refused' ? 'bad' : what === 'waiting' || what === 'held' ? 'warn' : '')
</script>

<template>
  <div class="page">
    <p class="path"><RouterLink :to="{ name: 'exchanges' }">← Exchanges</RouterLink></p>
    <div class="head"
      ><h1>Exchange</h1
      ><span v-if="detail" class="faint"
        >{{ detail.device_name }}, {{ detail.worker }} · {{ fullTime(detail.started_at) }} · {{ kilobytes(detail.bytes_in) }} in,
        {{ kilobytes(detail.bytes_out) }} out</span
      ></div
    >
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh" />
    <div v-if="detail" class="sheet">
      <EmptyNote v-if="!detail.carried?.length" title="It carried no change and no record"
        >Or what it carried is no longer kept; <code>homing serve --keep-exchanges</code> says how long it is.</EmptyNote
      >
      <DataTable v-else :value="detail.carried" size="small" paginator :rows="50" :always-show-paginator="false">
        <Column header="" style="width: 2rem"
          ><template #body="{ data }"
            ><span :title="data.up ? 'a change that the device sent' : 'a record that the device got'">{{ data.up ? '↑' : '↓' }}</span></template
          ></Column
        >
        <Column header="No" class="number" style="width: 3.5rem"
          ><template #body="{ data }">{{ data.up ? data.number : '' }}</template></Column
        >
        <Column header="Record"
          ><template #body="{ data }"
            ><RouterLink :to="{ name: 'record', params: { collection: data.collection, id: data.record } }">{{
              data.label || `…${data.record.slice(-6)}`
            }}</RouterLink
            >{{ ' ' }}<span class="faint">{{ title(data) }}</span></template
          ></Column
        >
        <Column header="What"
          ><template #body="{ data }"
            ><template v-if="data.kind">{{ data.kind }}, </template><span :class="tone(data.what)">{{ data.what }}</span
            ><span v-if="data.revision" class="faint"> · revision {{ data.revision }}</span></template
          ></Column
        >
        <Column header="Fields">
          <template #body="{ data }">
            <div v-for="[name, text] in lines(data)" :key="name"
              ><span class="faint">{{ name }}</span> {{ text }}</div
            >
            <div v-for="reason in data.reasons ?? []" :key="reason.message" class="bad">{{ reason.field }} {{ reason.message }}</div>
          </template>
        </Column>
      </DataTable>
    </div>
    <p v-if="detail?.more" class="faint"
      >The first {{ plural(detail.carried?.length ?? 0, 'change') }} and records; <code>homing exchanges show</code> lists more.</p
    >
  </div>
</template>

<style scoped>
.path {
  margin: 0 0 0.4rem;
}
</style>
