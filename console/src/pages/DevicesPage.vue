<script setup lang="ts">
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import ToggleSwitch from 'primevue/toggleswitch'
import { useConfirm } from 'primevue/useconfirm'
import { useToast } from 'primevue/usetoast'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, type Code, type Device, type Worker } from '../api/client'
import { ago, clock, fullTime, plural } from '../format'
import { useDeviceEvents, useHeads } from '../live'
import { useNarrow } from '../narrow'
import { usePage } from '../page'
import EmptyNote from '../parts/EmptyNote.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { useSession } from '../session'

const { session, mayEdit, mayManageDevices, mayManageWorkers } = useSession()
const confirm = useConfirm()
const toast = useToast()
const narrow = useNarrow()
const devices = ref<Device[]>()
const workers = ref<Worker[]>([])
const codes = ref<Code[]>([])
const enrolling = ref(false)
const owner = ref('')
const code = ref<{ code: string; worker: string; expires_at: string; link?: string; picture?: string }>()
const revoking = ref<Device>()
const deliver = ref(false)

const { problem, refresh } = usePage(async () => {
  const [all, open] = await Promise.all([ask(api.GET('/v1/devices')), mayEdit.value ? ask(api.GET('/v1/codes')) : []])
  devices.value = all ?? []
  codes.value = open ?? []
})
useDeviceEvents(refresh)
useHeads(refresh)

// What is looked for stands in the address, so that the overview's figures lead here.
const route = useRoute()
const router = useRouter()
const text = (name: string) => String(route.query[name] ?? '')
const go = (query: Record<string, string | undefined>) => router.replace({ query: { ...route.query, ...query } })
const hour = 3_600_000
const seenIn: Record<string, (age: number) => boolean> = {
  hour: (age) => age < hour,
  day: (age) => age >= hour && age < 24 * hour,
  week: (age) => age >= 24 * hour && age < 168 * hour,
  longer: (age) => age >= 168 * hour && age < Infinity,
  never: (age) => age === Infinity,
}
const any = 'any' // stands for no narrowing in a list of choices
const seens = [
  { label: 'seen at any time', value: any },
  { label: 'seen in the last hour', value: 'hour' },
  { label: 'seen today', value: 'day' },
  { label: 'seen this week', value: 'week' },
  { label: 'seen longer ago', value: 'longer' },
  { label: 'never seen', value: 'never' },
]
const states = [
  { label: 'in any state', value: any },
  { label: 'with unsent changes', value: 'unsent' },
  { label: 'with refused changes', value: 'refused' },
  { label: 'with waiting changes', value: 'waiting' },
  { label: 'with a wrong clock', value: 'clock' },
  { label: 'behind central', value: 'behind' },
  { label: 'revoked', value: 'revoked' },
]
const isIn: Record<string, (d: Device) => boolean> = {
  unsent: (d) => !!d.unsent,
  refused: (d) => !!d.refused,
  waiting: (d) => !!d.waiting,
  clock: (d) => clock(d.offset_ms, d.error_ms).wrong,
  behind: (d) => !!d.lag,
  revoked: (d) => !!d.revoked_at,
}
const listed = computed(() =>
  (devices.value ?? []).filter((d) => {
    const age = d.seen_at ? Date.now() - new Date(d.seen_at).getTime() : Infinity
    const words = [d.name, d.agent, ...(d.people ?? []).map((p) => p.name)].join(' ').toLowerCase()
    return (
      text('search')
        .toLowerCase()
        .split(/\s+/)
        .every((word) => words.includes(word)) &&
      (seenIn[text('seen')]?.(age) ?? true) &&
      (isIn[text('owes')]?.(d) ?? true)
    )
  }),
)

async function startEnrolment() {
  code.value = undefined
  owner.value = session.value?.worker ?? ''
  enrolling.value = true
  if (mayManageWorkers.value) workers.value = (await ask(api.GET('/v1/workers')).catch(() => [])) ?? []
}
async function issue() {
  try {
    code.value = await ask(api.POST('/v1/codes', { body: { worker: owner.value, central: window.location.origin } }))
    await refresh()
  } catch (error) {
    toast.add({ severity: 'error', summary: 'No code', detail: (error as Error).message, life: 9000 })
  }
}

async function act(call: () => Promise<unknown>) {
  try {
    await call()
  } catch (error) {
    toast.add({ severity: 'error', summary: 'Not done', detail: (error as Error).message, life: 9000 })
  }
  await refresh()
}
const admit = (device: Device) => act(() => ask(api.POST('/v1/devices/{id}/admission', { params: { path: { id: device.id } } })))
function voidCode(one: Code) {
  confirm.require({
    header: `Void the code for ${one.worker}?`,
    message: 'It enrols no device any more. You can issue another one.',
    acceptLabel: 'Void it',
    rejectLabel: 'Cancel',
    acceptProps: { severity: 'danger' },
    rejectProps: { severity: 'secondary' },
    accept: () => act(() => ask(api.DELETE('/v1/codes/{id}', { params: { path: { id: one.id } } }))),
  })
}

async function setRevoked(device: Device, revoked: boolean) {
  const params = { path: { id: device.id } }
  try {
    if (revoked) await ask(api.POST('/v1/devices/{id}/revocation', { params: { ...params, query: { deliver: deliver.value } } }))
    else await ask(api.DELETE('/v1/devices/{id}/revocation', { params }))
    await refresh()
  } catch (error) {
    toast.add({ severity: 'error', summary: 'Not done', detail: (error as Error).message, life: 9000 })
  }
}
function revoke(device: Device) {
  deliver.value = false
  revoking.value = device
}
async function doRevoke() {
  if (revoking.value) await setRevoked(revoking.value, true)
  revoking.value = undefined
}
const state = (device: Device) => (device.may_deliver ? 'revoked, may deliver' : 'revoked')
const others = (device: Device) => (device.people ?? []).slice(1)
function leave(device: Device, worker: string) {
  confirm.require({
    header: `Take ${worker} off ${device.name}?`,
    message: 'The device drops what only they cover. What they have not sent still goes to central.',
    acceptLabel: 'Take off',
    rejectLabel: 'Cancel',
    acceptProps: { severity: 'danger' },
    rejectProps: { severity: 'secondary' },
    accept: async () => {
      try {
        await ask(api.DELETE('/v1/devices/{id}/people/{worker}', { params: { path: { id: device.id, worker } } }))
        await refresh()
      } catch (error) {
        toast.add({ severity: 'error', summary: 'Not done', detail: (error as Error).message, life: 9000 })
      }
    },
  })
}

/** What is in the device's outbox, as it last said. */
function owes(device: Device): string {
  if (device.unsent === undefined) return '–'
  const parts = [
    [device.unsent, 'unsent'],
    [device.refused ?? 0, 'refused'],
    [device.waiting ?? 0, 'waiting'],
  ] as const
  return (
    parts
      .filter(([n]) => n)
      .map(([n, word]) => `${n} ${word}`)
      .join(', ') || 'nothing'
  )
}

function last(device: Device): string {
  const e = device.last_exchange
  if (!e) return 'none yet'
  const parts = [
    [e.applied, 'applied'],
    [e.merged, 'merged'],
    [e.held, 'held'],
    [e.refused, 'refused'],
    [e.waiting, 'waiting'],
    [e.delivered, 'pulled'],
  ] as const
  return (
    parts
      .filter(([n]) => n)
      .map(([n, word]) => `${n} ${word}`)
      .join(', ') || 'nothing to exchange'
  )
}
const command = () => `homing local enrol --link '${code.value?.link}' --name NAME`
const joinCommand = () => `homing local join --code ${code.value?.code}`
</script>

<template>
  <div class="page">
    <div class="head">
      <h1>Devices</h1>
      <span class="faint">{{
        !devices ? '' : listed.length === devices.length ? plural(devices.length, 'device') : `${listed.length} of ${plural(devices.length, 'device')}`
      }}</span>
      <span class="grow" />
      <RouterLink v-if="mayManageDevices" to="/settings">How they behave</RouterLink>
      <Button v-if="mayEdit" label="Enrol a device" icon="pi pi-plus" size="small" @click="startEnrolment" />
    </div>
    <form v-if="devices && (devices.length > 1 || Object.keys(route.query).length)" class="filters" @submit.prevent>
      <InputText
        :model-value="text('search')"
        type="search"
        size="small"
        placeholder="Search"
        aria-label="Search devices"
        @update:model-value="go({ search: $event || undefined })"
      />
      <Select
        :model-value="text('seen') || any"
        aria-label="By last contact"
        :options="seens"
        option-label="label"
        option-value="value"
        size="small"
        @update:model-value="go({ seen: $event === any ? undefined : $event })"
      />
      <Select
        :model-value="text('owes') || any"
        aria-label="By state"
        :options="states"
        option-label="label"
        option-value="value"
        size="small"
        @update:model-value="go({ owes: $event === any ? undefined : $event })"
      />
    </form>
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh" />
    <div v-if="devices" class="sheet">
      <EmptyNote v-if="!devices.length" title="No device is enrolled yet">Enrol one: it gets a one-time code, and loads what its worker covers.</EmptyNote>
      <EmptyNote v-else-if="!listed.length" title="No device fits"><a href="#" @click.prevent="router.replace({ query: {} })">Show all</a></EmptyNote>
      <div v-else-if="narrow" class="cards">
        <div v-for="d in listed" :key="d.id" class="card">
          <RouterLink :to="{ name: 'device', params: { id: d.id } }"
            ><b>{{ d.name }}</b></RouterLink
          >{{ ' ' }}<span class="faint">{{ (d.people ?? []).map((p) => p.name).join(', ') }}</span>
          <span v-if="d.revoked_at" class="bad">{{ state(d) }}</span>
          <div class="faint"
            >seen {{ ago(d.seen_at) }} · {{ d.lag ? plural(d.lag, 'change') + ' behind' : 'up to date' }} · owes {{ owes(d) }} · clock
            {{ clock(d.offset_ms, d.error_ms).text }}</div
          >
          <div class="faint">last exchange: {{ last(d) }}</div>
          <div v-if="mayManageDevices" class="actions">
            <Button v-if="d.while_open && mayManageWorkers && !session?.open" label="Let in" size="small" text @click="admit(d)" />
            <Button v-if="d.revoked_at" label="Readmit" size="small" text @click="setRevoked(d, false)" />
            <Button v-else label="Revoke" size="small" text severity="secondary" @click="revoke(d)" />
            <Button v-for="p in others(d)" :key="p.name" :label="`Take ${p.name} off`" size="small" text severity="secondary" @click="leave(d, p.name)" />
          </div>
        </div>
      </div>
      <DataTable v-else :value="listed" data-key="id" size="small" paginator :rows="50" :always-show-paginator="false" removable-sort>
        <Column header="Device" field="name" sortable
          ><template #body="{ data }"
            ><RouterLink :to="{ name: 'device', params: { id: data.id } }"
              ><b>{{ data.name }}</b></RouterLink
            >{{ ' ' }}<span v-if="data.revoked_at" class="bad" :title="fullTime(data.revoked_at)">{{ state(data) }}</span
            ><span v-else-if="!data.people?.length" class="bad">shut out with its worker</span
            ><span v-else-if="data.while_open && !session?.open" class="bad">enrolled while central was open: shut out</span
            ><div class="faint small">{{ data.agent }}</div></template
          ></Column
        >
        <Column header="Worker" field="worker" sortable>
          <template #body="{ data }">
            {{ data.worker }} <span class="faint">{{ data.role }}</span>
            <div v-for="p in others(data)" :key="p.name" class="other"
              >{{ p.name }} <span class="faint">{{ p.role }}</span><Button
                v-if="mayManageDevices"
                icon="pi pi-times"
                text
                rounded
                size="small"
                :aria-label="`Take ${p.name} off`"
                :title="`Take ${p.name} off`"
                @click="leave(data, p.name)"
            /></div>
          </template>
        </Column>
        <Column header="Seen" field="seen_at" sortable
          ><template #body="{ data }"
            ><span :title="fullTime(data.seen_at)">{{ ago(data.seen_at) }}</span></template
          ></Column
        >
        <Column header="Behind by" field="lag" sortable
          ><template #body="{ data }"
            ><span :class="{ faint: !data.lag }">{{ data.lag ? plural(data.lag, 'change') : 'nothing' }}</span></template
          ></Column
        >
        <Column header="Owes" field="unsent" sortable
          ><template #body="{ data }"
            ><span :class="{ faint: owes(data) === 'nothing', bad: data.refused }">{{ owes(data) }}</span></template
          ></Column
        >
        <Column header="Clock" field="offset_ms" sortable
          ><template #body="{ data }"
            ><span :class="{ warn: clock(data.offset_ms, data.error_ms).wrong }">{{ clock(data.offset_ms, data.error_ms).text }}</span></template
          ></Column
        >
        <Column header="Last exchange"
          ><template #body="{ data }">{{ last(data) }}</template></Column
        >
        <Column v-if="mayManageDevices" class="number">
          <template #header><span class="hidden">What can be done</span></template>
          <template #body="{ data }">
            <Button v-if="data.while_open && mayManageWorkers && !session?.open" label="Let in" size="small" text @click="admit(data)" />
            <Button v-if="data.revoked_at" label="Readmit" size="small" text @click="setRevoked(data, false)" />
            <Button v-else label="Revoke" size="small" text severity="secondary" @click="revoke(data)" />
          </template>
        </Column>
      </DataTable>
    </div>
    <template v-if="codes.length">
      <h2 class="second">Codes that can still be used</h2>
      <div class="sheet">
        <ul class="codes">
          <li v-for="one in codes" :key="one.id"
            ><span class="grow"
              >for <b>{{ one.worker }}</b><template v-if="one.issued_by !== one.worker">, issued by {{ one.issued_by }}</template>
              <span v-if="one.while_open && !session?.open" class="bad">issued while central was open: useless</span></span
            ><span class="faint">until {{ fullTime(one.expires_at) }}</span
            ><Button label="Void" size="small" text severity="secondary" :aria-label="`Void the code for ${one.worker}`" @click="voidCode(one)"
          /></li>
        </ul>
      </div>
    </template>
    <Dialog v-model:visible="enrolling" modal header="Enrol a device" :style="{ width: 'min(36rem, 94vw)' }">
      <div v-if="!code" class="form">
        <label v-if="workers.length">For whom<Select v-model="owner" :options="workers.map((w) => w.name)" fluid /></label>
        <p v-else class="faint">The device will belong to {{ owner }}.</p>
        <div class="actions"><Button label="Issue a code" size="small" @click="issue" /></div>
      </div>
      <div v-else>
        <p
          >This code enrols one device for <b>{{ code.worker }}</b>, until {{ fullTime(code.expires_at) }}. It is shown this once.</p
        >
        <div class="both">
          <img v-if="code.picture" :src="code.picture" alt="The enrolment link as a QR code" />
          <div>
            <p class="code mono">{{ code.code }}</p>
            <p class="faint">On a new device:</p>
            <pre class="mono">{{ command() }}</pre>
            <p class="faint">On a device that {{ code.worker }} is to share:</p>
            <pre class="mono">{{ joinCommand() }}</pre>
          </div>
        </div>
      </div>
    </Dialog>
    <Dialog :visible="!!revoking" modal :header="`Revoke ${revoking?.name}?`" :style="{ width: 'min(30rem, 94vw)' }" @update:visible="revoking = undefined">
      <p>It can no longer push or pull. What it has not sent stays on it, and you can readmit it.</p>
      <label class="check"><ToggleSwitch v-model="deliver" input-id="deliver" /><span>Let it still send what it has queued. It gets nothing.</span></label>
      <div class="actions"
        ><Button label="Revoke" severity="danger" size="small" @click="doRevoke" /><Button
          label="Cancel"
          severity="secondary"
          size="small"
          @click="revoking = undefined"
      /></div>
    </Dialog>
  </div>
</template>

<style scoped>
.both {
  display: grid;
  grid-template-columns: 11rem minmax(0, 1fr);
  gap: 1rem;
  align-items: start;
}
.both img {
  width: 100%;
  border-radius: 4px;
}
.both p {
  margin: 0.5rem 0 0.2rem;
}
.check {
  display: flex;
  gap: 0.7rem;
  align-items: center;
  margin: 0 0 1.1rem;
}
.other {
  display: flex;
  align-items: center;
  gap: 0.3rem;
}
@media (max-width: 560px) {
  .both {
    grid-template-columns: minmax(0, 1fr);
  }
}
.small {
  font-size: 0.85rem;
}
.code {
  font-size: 1.5rem;
  text-align: center;
  letter-spacing: 0.06em;
  margin: 0.5rem 0;
}
pre {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  background: var(--ground);
  padding: 0.6rem;
  border-radius: 4px;
  margin: 0;
}
.form p {
  margin: 0;
}
.cards .card {
  cursor: default;
}
.second {
  margin: 1.6rem 0 0.6rem;
}
.codes {
  list-style: none;
  margin: 0;
  padding: 0;
}
.codes li {
  display: flex;
  gap: 1rem;
  align-items: center;
  padding: 0.35rem 1.1rem;
  border-top: 1px solid var(--line);
}
.codes li:first-child {
  border-top: 0;
}
.codes .grow {
  flex: 1;
}
</style>
