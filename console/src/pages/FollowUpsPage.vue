<script setup lang="ts">
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import Select from 'primevue/select'
import { ref, watch } from 'vue'
import { api, ask, type FollowedCount, type FollowedLine } from '../api/client'
import { fullTime } from '../format'
import { useHeads } from '../live'
import { useNarrow } from '../narrow'
import { usePage } from '../page'
import EmptyNote from '../parts/EmptyNote.vue'
import ProblemNote from '../parts/ProblemNote.vue'

/** What central did by itself after changes: how often, and change by change. */
const page = 100
const narrow = useNarrow()
const lines = ref<FollowedLine[]>()
const counts = ref<FollowedCount[]>([])
const outcome = ref<FollowedLine['outcome']>()
const more = ref(false)
const outcomes: { value: FollowedLine['outcome']; label: string }[] = [
  { value: 'done', label: 'done' },
  { value: 'nothing', label: 'nothing to do' },
  { value: 'refused', label: 'refused' },
  { value: 'stopped', label: 'stopped' },
]
const labelOf = (one: FollowedLine['outcome']) => outcomes.find(({ value }) => value === one)?.label ?? one
const wrong = (one: FollowedLine['outcome']) => one === 'refused' || one === 'stopped'

const some = async (before?: number) => (await ask(api.GET('/v1/follow-ups', { params: { query: { outcome: outcome.value, before, limit: page } } }))) ?? []
const { problem, refresh } = usePage(async (still) => {
  const [got, sums] = await Promise.all([some(), ask(api.GET('/v1/follow-ups/counts'))])
  if (!still()) return
  lines.value = got
  counts.value = sums ?? []
  more.value = got.length === page
})
useHeads(refresh)
watch(outcome, () => refresh())

async function earlier() {
  const last = lines.value?.at(-1)
  if (!last) return
  try {
    const got = await some(last.place)
    lines.value = [...(lines.value ?? []), ...got]
    more.value = got.length === page
  } catch (error) {
    problem.value = (error as Error).message
  }
}
const acts: { [kind: string]: string } = { add: 'added', edit: 'changed', remove: 'removed' }
const didWhat = (one: FollowedLine) => (one.kind ? `${acts[one.kind]} a record of ${one.target}` : '')
</script>

<template>
  <div class="page">
    <div class="head">
      <h1>Follow-ups</h1>
      <span class="faint">what central did by itself after changes, as definitions say</span>
      <span class="grow" />
      <Select
        v-model="outcome"
        :options="outcomes"
        option-label="label"
        option-value="value"
        show-clear
        size="small"
        placeholder="Any outcome"
        aria-label="Only with the outcome"
      />
    </div>
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh" />
    <ul v-if="counts.length" class="sums">
      <li v-for="one in counts" :key="`${one.collection} ${one.rule} ${one.outcome}`" class="sheet">
        <b>{{ one.times.toLocaleString() }}</b> {{ labelOf(one.outcome as FollowedLine['outcome']) }}<br /><span class="faint"
          >{{ one.collection }}.{{ one.rule }}</span
        >
      </li>
    </ul>
    <div v-if="lines" class="sheet">
      <EmptyNote v-if="!lines.length" title="Nothing of the kind yet"
        >A definition says under follow_ups what central does after it has accepted a change.</EmptyNote
      >
      <div v-else-if="narrow" class="cards">
        <div v-for="one in lines" :key="one.place" class="card">
          <b>{{ one.collection }}.{{ one.rule }}</b> <span :class="{ bad: wrong(one.outcome) }">{{ labelOf(one.outcome) }}</span>
          <div>{{ one.reasons?.[0]?.message ?? didWhat(one) }}</div>
          <div class="faint">{{ fullTime(one.at) }}</div>
        </div>
      </div>
      <DataTable v-else :value="lines" data-key="place" size="small">
        <Column header="When"
          ><template #body="{ data }"
            ><span class="when">{{ fullTime(data.at) }}</span></template
          ></Column
        >
        <Column header="Follow-up"
          ><template #body="{ data }"
            ><span class="when">{{ data.collection }}.{{ data.rule }}</span></template
          ></Column
        >
        <Column header="After"
          ><template #body="{ data }"
            ><RouterLink :to="`/records/${data.collection}/${data.record}`">revision {{ data.revision }}</RouterLink></template
          ></Column
        >
        <Column header="Outcome"
          ><template #body="{ data }"
            ><span :class="{ bad: wrong(data.outcome) }">{{ labelOf(data.outcome) }}</span></template
          ></Column
        >
        <Column header="What"
          ><template #body="{ data }"
            ><span v-if="data.reasons?.length">{{ data.reasons[0].field ? `${data.reasons[0].field}: ` : '' }}{{ data.reasons[0].message }}</span
            ><RouterLink v-else-if="data.kind && data.outcome === 'done'" :to="`/records/${data.target}/${data.target_record}`">{{ didWhat(data) }}</RouterLink
            ><span v-else class="faint">all was as it was to be</span></template
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
.sums {
  display: flex;
  flex-wrap: wrap;
  gap: 0.6rem;
  list-style: none;
  padding: 0;
  margin: 0 0 0.8rem;
}
.sums .sheet {
  padding: 0.6rem 0.9rem;
}
.cards .card {
  cursor: default;
}
</style>
