<script setup lang="ts">
import AutoComplete from 'primevue/autocomplete'
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import ToggleSwitch from 'primevue/toggleswitch'
import { useToast } from 'primevue/usetoast'
import { computed, reactive, ref } from 'vue'
import { api, ask, type SignedIn, type Territory, type Worker } from '../api/client'
import { fullTime, plural } from '../format'
import { useDeviceEvents, useHeads } from '../live'
import { useNarrow } from '../narrow'
import { usePage } from '../page'
import EmptyNote from '../parts/EmptyNote.vue'
import PasswordInput from '../parts/PasswordInput.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import SignInList from '../parts/SignInList.vue'
import { useSession } from '../session'

type Role = Worker['role']
const roles: { value: Role; title: string }[] = [
  { value: 'reader', title: 'reader: sees records' },
  { value: 'worker', title: 'worker: also adds, edits, removes them, and enrols devices' },
  { value: 'lead', title: 'lead: also watches and revokes devices' },
  { value: 'admin', title: 'admin: also defines collections and adds people' },
]
const all = '*'
const toast = useToast()
const narrow = useNarrow()
const workers = ref<Worker[]>()
const territories = ref<Territory[]>([])
const signIns = ref<SignedIn[]>([])
const { session } = useSession()
const editing = ref<'new' | Worker>()
const wrong = ref('')
const draft = reactive<{ name: string; role: Role; password: string; everything: boolean; keys: string[] }>({
  name: '',
  role: 'worker',
  password: '',
  everything: true,
  keys: [],
})
const others = computed(() => territories.value.map((t) => t.key).filter((key) => !draft.keys.includes(key)))

const { problem, refresh } = usePage(async () => {
  const [people, keys, held] = await Promise.all([ask(api.GET('/v1/workers')), ask(api.GET('/v1/territories')), ask(api.GET('/v1/sign-ins'))])
  workers.value = people ?? []
  territories.value = keys ?? []
  signIns.value = held ?? []
})
useHeads(refresh)
useDeviceEvents(refresh)

/** What is out of the ordinary about an account. */
function state(w: Worker): string {
  if (w.disabled_at) return w.may_deliver ? 'disabled, may deliver' : 'disabled'
  if (w.while_open) return 'added while central was open: not let in'
  return w.signs_in ? '' : 'has no password'
}

const shutting = ref<{ worker: Worker; forGood: boolean }>()
const deliver = ref(false)
const setting = ref<Worker>()
const password = ref('')

/** Does something to an account, closes what was open for it, and says what went wrong there. */
async function act(call: () => Promise<unknown>, done: string) {
  try {
    await call()
    editing.value = undefined
    shutting.value = undefined
    setting.value = undefined
    toast.add({ severity: 'success', summary: done, life: 5000 })
  } catch (error) {
    wrong.value = (error as Error).message
  }
  await refresh()
}
function shut(worker: Worker, forGood: boolean) {
  deliver.value = false
  wrong.value = ''
  editing.value = undefined
  shutting.value = { worker, forGood }
}
function startPassword(worker: Worker) {
  password.value = ''
  wrong.value = ''
  editing.value = undefined
  setting.value = worker
}
const at = (worker: Worker) => ({ path: { name: worker.name } })
async function doShut() {
  const one = shutting.value
  if (!one) return
  const params = { ...at(one.worker), query: { deliver: deliver.value } }
  if (one.forGood) await act(() => ask(api.DELETE('/v1/workers/{name}', { params })), `${one.worker.name} is removed`)
  else await act(() => ask(api.POST('/v1/workers/{name}/disabling', { params })), `${one.worker.name} is disabled`)
}
const enable = (w: Worker) => act(() => ask(api.DELETE('/v1/workers/{name}/disabling', { params: at(w) })), `${w.name} may work again`)
const admit = (w: Worker) => act(() => ask(api.POST('/v1/workers/{name}/admission', { params: at(w) })), `${w.name} is let in`)
const setPassword = (w: Worker) =>
  act(
    () => ask(api.PUT('/v1/workers/{name}/password', { params: at(w), body: { password: password.value } })),
    `${w.name} has ${password.value ? 'another' : 'no'} password`,
  )

const covers = (w: Worker) => (w.territories?.includes(all) ? 'everything' : w.territories?.join(', ') || 'nothing that falls into territories')
const fallen = (t: Territory) =>
  Object.entries(t.records)
    .map(([name, n]) => `${n.toLocaleString()} ${name}`)
    .join(', ') || 'no records'

function start(who: 'new' | Worker) {
  const known = who === 'new' ? undefined : who
  Object.assign(draft, {
    name: known?.name ?? '',
    role: known?.role ?? 'worker',
    password: '',
    everything: !known || !!known.territories?.includes(all),
    keys: (known?.territories ?? []).filter((k) => k !== all),
  })
  wrong.value = ''
  editing.value = who
}
/** What was typed and not confirmed with Enter counts as well. */
function takeTyped(event: Event) {
  const box = event.target as HTMLInputElement
  const key = box.value.trim()
  if (key && !draft.keys.includes(key)) draft.keys = [...draft.keys, key]
  box.value = ''
}
async function save() {
  const held = draft.everything ? [all] : draft.keys
  try {
    if (editing.value === 'new') {
      await ask(api.POST('/v1/workers', { body: { name: draft.name, role: draft.role, password: draft.password || undefined, territories: held } }))
    } else if (editing.value) {
      const params = { path: { name: editing.value.name } }
      if (editing.value.role !== draft.role) await ask(api.PUT('/v1/workers/{name}/role', { params, body: { role: draft.role } }))
      if ([...(editing.value.territories ?? [])].sort().join('\n') !== [...held].sort().join('\n'))
        await ask(api.PUT('/v1/workers/{name}/territories', { params, body: { territories: held } }))
      toast.add({ severity: 'success', summary: 'Saved', detail: 'Devices follow with their next exchange.', life: 5000 })
    }
    editing.value = undefined
  } catch (error) {
    wrong.value = (error as Error).message
  }
  await refresh()
}
</script>

<template>
  <div class="page">
    <div class="head"><h1>People</h1><span class="grow" /><Button label="Add" icon="pi pi-plus" size="small" @click="start('new')" /></div>
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh" />
    <div v-if="workers" class="sheet">
      <div v-if="narrow" class="cards">
        <button v-for="w in workers" :key="w.name" class="card" @click="start(w)">
          <b>{{ w.name }}</b> <span class="faint">{{ w.role }}</span> <span :class="w.disabled_at || w.while_open ? 'bad' : 'faint'">{{ state(w) }}</span>
          <div class="faint">covers {{ covers(w) }} · {{ plural(w.devices, 'device') }}</div>
        </button>
      </div>
      <DataTable v-else :value="workers" data-key="name" size="small">
        <Column header="Name"
          ><template #body="{ data }"
            >{{ data.name }} <span class="small" :class="data.disabled_at || data.while_open ? 'bad' : 'faint'">{{ state(data) }}</span></template
          ></Column
        >
        <Column field="role" header="Role" />
        <Column header="Covers"
          ><template #body="{ data }"
            ><span :class="{ faint: data.territories?.includes(all) }">{{ covers(data) }}</span></template
          ></Column
        >
        <Column header="Devices" class="number"
          ><template #body="{ data }">{{ plural(data.devices, 'device') }}</template></Column
        >
        <Column header="Since"
          ><template #body="{ data }">{{ fullTime(data.created_at) }}</template></Column
        >
        <Column class="number"
          ><template #header><span class="hidden">What can be done</span></template
          ><template #body="{ data }"><Button label="Change" size="small" text @click="start(data)" /></template
        ></Column>
      </DataTable>
    </div>
    <template v-if="workers">
      <h2 class="second">Territories</h2>
      <div class="sheet">
        <EmptyNote v-if="!territories.length" title="Everybody covers everything"
          >As soon as a definition says under sync.territory where its records fall, the territories stand here.</EmptyNote
        >
        <DataTable v-else :value="territories" data-key="key" size="small">
          <Column field="key" header="Territory" />
          <Column header="What falls into it"
            ><template #body="{ data }">{{ fallen(data) }}</template></Column
          >
          <Column header="Held by"
            ><template #body="{ data }"
              ><span v-if="data.workers.length">{{ data.workers.join(', ') }}</span
              ><span v-else class="warn">nobody but those who cover everything</span></template
            ></Column
          >
        </DataTable>
      </div>
      <h2 class="second">Sign-ins that hold</h2>
      <div class="sheet">
        <SignInList v-if="signIns.length" :rows="signIns" named @ended="refresh" />
        <EmptyNote v-else title="Nobody is signed in">While central is open, nobody needs to.</EmptyNote>
      </div>
    </template>
    <Dialog
      :visible="!!editing"
      modal
      :header="editing === 'new' ? 'Add a worker' : `Change ${draft.name}`"
      :style="{ width: 'min(32rem, 94vw)' }"
      @update:visible="editing = undefined"
    >
      <form class="form" @submit.prevent="save">
        <label v-if="editing === 'new'"
          >Name<InputText v-model="draft.name" fluid autocapitalize="none" autofocus /><span class="hint">Small letters, digits, dots and dashes</span></label
        >
        <label>Role<Select v-model="draft.role" :options="roles" option-label="title" option-value="value" /></label>
        <label v-if="editing === 'new'"
          >Password<PasswordInput v-model="draft.password" /><span class="hint"
            >At least 10 characters. Without one, the worker can own devices but not sign in.</span
          ></label
        >
        <label class="check"><ToggleSwitch v-model="draft.everything" input-id="everything" /><span>Covers everything</span></label>
        <label v-if="!draft.everything" for="keys"
          >Territories<span @keydown.enter.prevent @keypress.enter.prevent
            ><AutoComplete v-model="draft.keys" multiple :typeahead="false" fluid input-id="keys" placeholder="Type and press Enter" @blur="takeTyped" /></span
          ><span v-if="others.length" class="known"
            >or take
            <Button v-for="key in others" :key="key" :label="key" size="small" severity="secondary" @click.prevent="draft.keys = [...draft.keys, key]" /></span
          ><span class="hint">Their devices load what is gained and drop what is lost with the next exchange. Nothing unsent is lost.</span></label
        >
        <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
        <div class="actions"
          ><Button type="submit" :label="editing === 'new' ? 'Add' : 'Save'" size="small" /><Button
            label="Cancel"
            severity="secondary"
            size="small"
            @click="editing = undefined"
        /></div>
        <div v-if="editing && editing !== 'new'" class="actions account">
          <Button label="What they get and may do" size="small" text as="router-link" :to="{ name: 'reach', params: { name: editing.name } }" />
          <Button v-if="editing.while_open" label="Let in" size="small" text @click="admit(editing)" />
          <Button label="Set password" size="small" text @click="startPassword(editing)" />
          <Button v-if="editing.disabled_at" label="Enable" size="small" text @click="enable(editing)" />
          <template v-if="editing.name !== session?.worker">
            <Button v-if="!editing.disabled_at" label="Disable" size="small" text severity="danger" @click="shut(editing, false)" />
            <Button label="Remove" size="small" text severity="danger" @click="shut(editing, true)" />
          </template>
        </div>
      </form>
    </Dialog>
    <Dialog
      :visible="!!setting"
      modal
      :header="`Set the password of ${setting?.name}`"
      :style="{ width: 'min(30rem, 94vw)' }"
      @update:visible="setting = undefined"
    >
      <form v-if="setting" class="form" @submit.prevent="setPassword(setting)">
        <label
          >New password<PasswordInput v-model="password" autocomplete="new-password" /><span class="hint"
            >At least 10 characters. Empty takes it away: then {{ setting.name }} can own devices but not sign in. Their sign-ins end.</span
          ></label
        >
        <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
        <div class="actions"
          ><Button type="submit" :label="password ? 'Set' : 'Take it away'" size="small" :severity="password ? undefined : 'danger'" /><Button
            label="Cancel"
            severity="secondary"
            size="small"
            @click="setting = undefined"
        /></div>
      </form>
    </Dialog>
    <Dialog
      :visible="!!shutting"
      modal
      :header="`${shutting?.forGood ? 'Remove' : 'Disable'} ${shutting?.worker.name}?`"
      :style="{ width: 'min(30rem, 94vw)' }"
      @update:visible="shutting = undefined"
    >
      <p v-if="shutting?.forGood"
        >The account is gone for good, and nobody gets its name again. Records and history keep it. Sign-ins and codes end, and their devices get nothing
        more.</p
      >
      <p v-else>They cannot sign in, and their devices get nothing, until you enable them again. Sign-ins and codes end.</p>
      <label class="check"><ToggleSwitch v-model="deliver" input-id="deliver" /><span>What their devices have queued still goes in.</span></label>
      <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
      <div class="actions"
        ><Button :label="shutting?.forGood ? 'Remove' : 'Disable'" severity="danger" size="small" @click="doShut" /><Button
          label="Cancel"
          severity="secondary"
          size="small"
          @click="shutting = undefined"
      /></div>
    </Dialog>
  </div>
</template>

<style scoped>
.form p {
  margin: 0;
}
.known {
  display: flex;
  flex-wrap: wrap;
  gap: 0.3rem;
  align-items: center;
  font-weight: 400;
  color: var(--faint);
}
.small {
  font-size: 0.85rem;
}
.check {
  display: flex;
  gap: 0.7rem;
  align-items: center;
  margin: 0 0 1.1rem;
}
.account {
  border-top: 1px solid var(--line);
  padding-top: 0.6rem;
  flex-wrap: wrap;
}
.second {
  margin: 1.6rem 0 0.6rem;
}
.form label.check {
  display: flex;
  gap: 0.7rem;
  align-items: center;
}
</style>
