<script setup lang="ts">
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import Password from 'primevue/password'
import Select from 'primevue/select'
import { onMounted, reactive, ref } from 'vue'
import { api, ask, type Worker } from '../api/client'
import { fullTime, plural } from '../format'
import ProblemNote from '../parts/ProblemNote.vue'

type Role = Worker['role']
const roles: { value: Role; title: string }[] = [
  { value: 'reader', title: 'reader: sees records' },
  { value: 'worker', title: 'worker: also adds, edits, removes them, and enrols devices' },
  { value: 'lead', title: 'lead: also watches and revokes devices' },
  { value: 'admin', title: 'admin: also defines collections and adds people' },
]
const workers = ref<Worker[]>()
const problem = ref('')
const adding = ref(false)
const wrong = ref('')
const draft = reactive<{ name: string; role: Role; password: string }>({ name: '', role: 'worker', password: '' })

async function refresh() {
  try {
    workers.value = (await ask(api.GET('/v1/workers'))) ?? []
    problem.value = ''
  } catch (error) {
    problem.value = (error as Error).message
  }
}
onMounted(refresh)

function start() {
  Object.assign(draft, { name: '', role: 'worker', password: '' })
  wrong.value = ''
  adding.value = true
}
async function add() {
  try {
    await ask(api.POST('/v1/workers', { body: { name: draft.name, role: draft.role, password: draft.password || undefined } }))
    adding.value = false
    await refresh()
  } catch (error) {
    wrong.value = (error as Error).message
  }
}
</script>

<template>
  <div class="page">
    <div class="head"><h1>People</h1><span class="grow" /><Button label="Add" icon="pi pi-plus" size="small" @click="start" /></div>
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh" />
    <div v-if="workers" class="sheet">
      <DataTable :value="workers" data-key="name" size="small">
        <Column field="name" header="Name" />
        <Column field="role" header="Role" />
        <Column header="Devices" class="number"><template #body="{ data }">{{ plural(data.devices, 'device') }}</template></Column>
        <Column header="Since"><template #body="{ data }">{{ fullTime(data.created_at) }}</template></Column>
      </DataTable>
    </div>
    <Dialog v-model:visible="adding" modal header="Add a worker" :style="{ width: 'min(30rem, 94vw)' }">
      <form class="form" @submit.prevent="add">
        <label>Name<InputText v-model="draft.name" fluid autocapitalize="none" autofocus /><span class="hint">Small letters, digits, dots and dashes</span></label>
        <label>Role<Select v-model="draft.role" :options="roles" option-label="title" option-value="value" fluid /></label>
        <label>Password<Password v-model="draft.password" :feedback="false" toggle-mask fluid /><span class="hint">At least 8 characters. Without one, the worker can own devices but not sign in.</span></label>
        <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
        <div class="actions"><Button type="submit" label="Add" size="small" /><Button label="Cancel" severity="secondary" size="small" @click="adding = false" /></div>
      </form>
    </Dialog>
  </div>
</template>

<style scoped>
.form p { margin: 0; }
</style>
