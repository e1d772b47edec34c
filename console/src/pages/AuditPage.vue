<script setup lang="ts">
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import InputText from 'primevue/inputtext'
import { ref } from 'vue'
import { api, ask, type Done } from '../api/client'
import { fullTime } from '../format'
import { useDeviceEvents } from '../live'
import { useNarrow } from '../narrow'
import { usePage } from '../page'
import EmptyNote from '../parts/EmptyNote.vue'
import ProblemNote from '../parts/ProblemNote.vue'

const page = 100
const narrow = useNarrow()
const lines = ref<Done[]>()
const about = ref('')
const more = ref(false)

const { problem, refresh } = usePage(async (counts) => {
  const got = (await ask(api.GET('/v1/audit', { params: { query: { about: about.value.trim() || undefined, limit: page } } }))) ?? []
  if (!counts()) return
  lines.value = got
  more.value = got.length === page
})
useDeviceEvents(refresh)

async function earlier() {
  const last = lines.value?.at(-1)
  if (!last) return
  try {
    const got = (await ask(api.GET('/v1/audit', { params: { query: { about: about.value.trim() || undefined, before: last.place, limit: page } } }))) ?? []
    lines.value = [...(lines.value ?? []), ...got]
    more.value = got.length === page
  } catch (error) {
    problem.value = (error as Error).message
  }
}
const who = (one: Done) => one.worker || 'whoever runs central'
const to = (one: Done) => (one.about === one.worker && one.act.startsWith('sign') ? '' : one.about)
</script>

<template>
  <div class="page">
    <div class="head">
      <h1>Audit</h1>
      <span class="faint">who did what to people, sign-ins, codes and devices; nothing here can be altered</span>
      <span class="grow" />
      <InputText v-model="about" size="small" placeholder="A worker, or a device's id" aria-label="Only about" @change="refresh()" />
    </div>
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh" />
    <div v-if="lines" class="sheet">
      <EmptyNote v-if="!lines.length" title="Nothing of the kind was done">Names are written as the workers have them; devices go by their ids.</EmptyNote>
      <div v-else-if="narrow" class="cards">
        <div v-for="one in lines" :key="one.place" class="card">
          <b>{{ one.act }}</b> {{ to(one) }} <span class="faint">{{ one.detail }}</span>
          <div class="faint">{{ who(one) }}{{ one.address ? `, from ${one.address}` : '' }}, {{ fullTime(one.at) }}</div>
        </div>
      </div>
      <DataTable v-else :value="lines" data-key="place" size="small">
        <Column header="When"
          ><template #body="{ data }"
            ><span class="when">{{ fullTime(data.at) }}</span></template
          ></Column
        >
        <Column header="Who"
          ><template #body="{ data }"
            ><span class="when" :class="{ faint: !data.worker }">{{ who(data) }}</span></template
          ></Column
        >
        <Column header="From"
          ><template #body="{ data }"
            ><span class="faint">{{ data.address || '–' }}</span></template
          ></Column
        >
        <Column header="Did"
          ><template #body="{ data }"
            ><span class="when">{{ data.act }}</span></template
          ></Column
        >
        <Column header="To"
          ><template #body="{ data }"
            ><span class="id">{{ to(data) }}</span></template
          ></Column
        >
        <Column header="More"
          ><template #body="{ data }"
            ><span class="faint more" :title="data.detail">{{ data.detail }}</span></template
          ></Column
        >
      </DataTable>
    </div>
    <p v-if="more"><Button label="Earlier" size="small" severity="secondary" @click="earlier" /></p>
  </div>
</template>

<style scoped>
.when {
  white-space: nowrap;
}
.id {
  overflow-wrap: anywhere;
}
.more {
  display: block;
  max-width: 20rem;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.cards .card {
  cursor: default;
}
</style>
