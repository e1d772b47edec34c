<script setup lang="ts">
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import { useToast } from 'primevue/usetoast'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { api, ask, type Delta, type DeviceDetail, type Exchange, type Travelled } from '../api/client'
import { useCollections } from '../collections'
import { ago, clock, fullTime, kilobytes, megabytes, plural, shown } from '../format'
import { useDeviceEvents, useHeads } from '../live'
import { usePage } from '../page'
import DeviceErrands from '../parts/DeviceErrands.vue'
import EmptyNote from '../parts/EmptyNote.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { setTitle } from '../router'
import { useSession } from '../session'

const route = useRoute()
const toast = useToast()
const { mayManageDevices } = useSession()
const { collections, load, find } = useCollections()
const id = computed(() => String(route.params.id))
const device = ref<DeviceDetail>()
const exchanges = ref<Exchange[]>([])
const naming = ref(false)
const name = ref('')
const wrong = ref('')

const { problem, loading, refresh } = usePage(async (counts) => {
  if (!collections.value) await load()
  const [one, all] = await Promise.all([
    ask(api.GET('/v1/devices/{id}', { params: { path: { id: id.value } } })),
    ask(api.GET('/v1/exchanges', { params: { query: { device: id.value, limit: 20 } } })),
  ])
  if (!counts()) return
  device.value = one
  exchanges.value = all ?? []
  setTitle(one.name)
})
useDeviceEvents(() => refresh())
useHeads(() => refresh())

const facts = computed(() => {
  const d = device.value
  if (!d) return []
  const at = clock(d.offset_ms, d.error_ms)
  return [
    { name: 'People', value: (d.people ?? []).map((p) => p.name).join(', ') || d.worker },
    { name: 'Covers', value: d.territories?.includes('*') ? 'everything' : d.territories?.join(', ') || 'nothing that falls into territories' },
    { name: 'Program', value: d.agent || 'not said' },
    { name: 'Enrolled', value: fullTime(d.enrolled_at) },
    { name: 'Last contact', value: d.seen_at ? `${ago(d.seen_at)}, ${fullTime(d.seen_at)}` : 'never' },
    { name: 'Clock', value: d.offset_ms === undefined ? 'not measured yet' : at.text, bad: at.wrong },
    { name: 'Not sent yet', value: d.unsent === undefined ? 'not said yet' : plural(d.unsent, 'change') },
    { name: 'Refused', value: d.refused === undefined ? 'not said yet' : plural(d.refused, 'change'), bad: !!d.refused },
    { name: 'Waiting', value: d.waiting === undefined ? 'not said yet' : plural(d.waiting, 'change') },
    { name: 'Behind', value: d.lag ? plural(d.lag, 'change') : 'has pulled to the head' },
    { name: 'Its store takes', value: d.stored === undefined ? 'not said yet' : megabytes(d.stored) },
    { name: 'Store', value: d.incarnation },
  ]
})
const fieldOf = (t: Travelled, field: string) => find(t.collection)?.fields?.find((f) => f.name === field)
const asked = (t: Travelled) =>
  Object.entries((t.fields ?? {}) as Delta).map(([field, edit]) => `${fieldOf(t, field)?.title ?? field}: ${shown(fieldOf(t, field), edit.to) || '(none)'}`)

function startNaming() {
  name.value = device.value?.name ?? ''
  wrong.value = ''
  naming.value = true
}
async function rename() {
  try {
    await ask(api.PUT('/v1/devices/{id}/name', { params: { path: { id: id.value } }, body: { name: name.value } }))
    naming.value = false
    toast.add({ severity: 'success', summary: 'Renamed', detail: 'What it has sent keeps the name that it had.', life: 4000 })
    await refresh()
  } catch (error) {
    wrong.value = (error as Error).message
  }
}
</script>

<template>
  <div class="page">
    <p class="path"><RouterLink to="/devices">← Devices</RouterLink></p>
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh" />
    <template v-if="device">
      <div class="head">
        <h1>{{ device.name }}</h1>
        <span v-if="device.revoked_at" class="bad">revoked {{ ago(device.revoked_at) }}{{ device.may_deliver ? ', may deliver what it has queued' : '' }}</span>
        <span class="grow" />
        <Button v-if="mayManageDevices" label="Rename" icon="pi pi-pencil" size="small" severity="secondary" @click="startNaming" />
      </div>
      <div class="columns">
        <div class="stack">
          <section class="sheet padded">
            <h2>What is known of it</h2>
            <dl>
              <template v-for="f in facts" :key="f.name"
                ><dt>{{ f.name }}</dt
                ><dd :class="{ bad: f.bad }">{{ f.value }}</dd></template
              >
            </dl>
          </section>
          <DeviceErrands :device="device" :may="mayManageDevices" @done="refresh()" />
        </div>
        <div class="stack">
          <section class="sheet padded">
            <h2>How far it has pulled</h2>
            <DataTable :value="device.reached" data-key="collection" size="small">
              <Column header="Collection"
                ><template #body="{ data }"
                  ><RouterLink :to="{ name: 'records', params: { collection: data.collection } }">{{
                    find(data.collection)?.title ?? data.collection
                  }}</RouterLink></template
                ></Column
              >
              <Column header="Cursor" class="number"
                ><template #body="{ data }">{{ data.cursor.toLocaleString() }} of {{ data.head.toLocaleString() }}</template></Column
              >
              <Column header="Behind" class="number"
                ><template #body="{ data }"
                  ><span :class="data.head > data.cursor ? 'warn' : 'faint'">{{ (data.head - data.cursor).toLocaleString() }}</span></template
                ></Column
              >
              <Column header="Said"
                ><template #body="{ data }"
                  ><span class="faint" :title="fullTime(data.pulled_at)">{{ ago(data.pulled_at) }}</span></template
                ></Column
              >
            </DataTable>
          </section>
          <section class="sheet padded">
            <h2>What central did not accept, the latest first</h2>
            <p v-if="!device.unaccepted?.length" class="faint">Nothing that the log still has.</p>
            <ul>
              <li v-for="(t, n) in device.unaccepted" :key="n">
                <b>{{ t.label || find(t.collection)?.title || t.collection }}</b> <span :class="t.what === 'refused' ? 'bad' : 'warn'">{{ t.what }}</span>
                <span class="faint" :title="fullTime(t.at)"> {{ ago(t.at) }}</span>
                <div v-if="asked(t).length" class="faint">{{ asked(t).join(' · ') }}</div>
                <div v-for="(r, k) in t.reasons ?? []" :key="k">{{ r.field ? `${fieldOf(t, r.field)?.title ?? r.field}: ` : '' }}{{ r.message }}</div>
              </li>
            </ul>
            <p v-if="device.unaccepted?.length" class="faint">It may have been mended on the device since.</p>
          </section>
          <section class="sheet padded">
            <h2>Its exchanges</h2>
            <EmptyNote v-if="!exchanges.length" title="None yet">Each run of the device with central is listed here.</EmptyNote>
            <ul v-else class="runs">
              <li v-for="e in exchanges" :key="e.id">
                <RouterLink :to="{ name: 'exchange', params: { id: e.id } }" :title="fullTime(e.started_at)">{{ ago(e.started_at) }}</RouterLink>
                <span
                  >{{ e.applied + e.merged + e.held }} accepted<template v-if="e.refused"
                    >, <span class="bad">{{ e.refused }} refused</span></template
                  ><template v-if="e.waiting">, {{ e.waiting }} waiting</template>, {{ e.delivered }} pulled</span
                >
                <span class="faint">{{ kilobytes(e.bytes_in) }} up, {{ kilobytes(e.bytes_out) }} down</span>
              </li>
            </ul>
          </section>
        </div>
      </div>
    </template>
    <EmptyNote v-else-if="!loading && !problem" title="There is no such device"><RouterLink to="/devices">All devices</RouterLink></EmptyNote>
    <Dialog v-model:visible="naming" modal header="Rename the device" :style="{ width: 'min(26rem, 94vw)' }">
      <form class="form" @submit.prevent="rename">
        <label for="device-name">Name<InputText id="device-name" v-model="name" maxlength="80" autofocus fluid /></label>
        <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
        <div class="actions"
          ><Button type="submit" label="Rename" size="small" :disabled="!name.trim()" /><Button
            label="Cancel"
            severity="secondary"
            size="small"
            @click="naming = false"
        /></div>
      </form>
    </Dialog>
  </div>
</template>

<style scoped>
.path {
  margin: 0 0 0.4rem;
}
.columns {
  display: grid;
  grid-template-columns: minmax(0, 4fr) minmax(0, 6fr);
  gap: 1rem;
  align-items: start;
}
.stack {
  display: grid;
  gap: 1rem;
}
dl {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 0.35rem 1rem;
  margin: 0;
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
  gap: 0.5rem;
  overflow-wrap: anywhere;
}
.runs li {
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
  gap: 0.2rem 1rem;
}
@media (max-width: 900px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
