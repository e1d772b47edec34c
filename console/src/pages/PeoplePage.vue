<script setup lang="ts">
import AutoComplete from 'primevue/autocomplete'
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import Password from 'primevue/password'
import Select from 'primevue/select'
import ToggleSwitch from 'primevue/toggleswitch'
import { useToast } from 'primevue/usetoast'
import { computed, reactive, ref } from 'vue'
import { api, ask, type Territory, type Worker } from '../api/client'
import { fullTime, plural } from '../format'
import { useDeviceEvents, useHeads } from '../live'
import { useNarrow } from '../narrow'
import { usePage } from '../page'
import EmptyNote from '../parts/EmptyNote.vue'
import ProblemNote from '../parts/ProblemNote.vue'

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
  const [people, keys] = await Promise.all([ask(api.GET('/v1/workers')), ask(api.GET('/v1/territories'))])
  workers.value = people ?? []
  territories.value = keys ?? []
})
useHeads(refresh)
useDeviceEvents(refresh)

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
      await ask(api.POST('/v1/workers', { body: { name: draft.name, role: draft.role, password: draft.password || undefined } }))
      if (!draft.everything) await ask(api.PUT('/v1/workers/{name}/territories', { params: { path: { name: draft.name } }, body: { territories: held } }))
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
          <b>{{ w.name }}</b> <span class="faint">{{ w.role }}</span>
          <div class="faint">covers {{ covers(w) }} · {{ plural(w.devices, 'device') }}</div>
        </button>
      </div>
      <DataTable v-else :value="workers" data-key="name" size="small">
        <Column field="name" header="Name" />
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
        <label>Role<Select v-model="draft.role" :options="roles" option-label="title" option-value="value" fluid /></label>
        <label v-if="editing === 'new'"
          >Password<Password v-model="draft.password" :feedback="false" toggle-mask fluid /><span class="hint"
            >At least 8 characters. Without one, the worker can own devices but not sign in.</span
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
      </form>
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
.second {
  margin: 1.6rem 0 0.6rem;
}
.form label.check {
  display: flex;
  gap: 0.7rem;
  align-items: center;
}
</style>
