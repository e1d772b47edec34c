<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { api, ask, type Reach } from '../api/client'
import { useHeads } from '../live'
import { usePage } from '../page'
import EmptyNote from '../parts/EmptyNote.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { setTitle } from '../router'

const route = useRoute()
const name = computed(() => String(route.params.name))
const reach = ref<Reach>()
const { problem, loading, refresh } = usePage(async () => {
  reach.value = await ask(api.GET('/v1/workers/{name}/reach', { params: { path: { name: name.value } } }))
  setTitle(`What ${name.value} gets and may do`)
})
useHeads(() => refresh())

type Leave = NonNullable<Reach['collections']>[number]['leaves']
const acts = ['read', 'add', 'edit', 'remove'] as const
const leave = (leaves: Leave, act: string) => leaves?.find((one) => one.act === act)
const words = { all: 'yes', none: 'no', some: 'where' } as const
const covers = computed(() => (reach.value?.territories?.includes('*') ? 'everything' : reach.value?.territories?.join(', ') || 'no territory'))
</script>

<template>
  <div class="page">
    <RouterLink to="/people">← People</RouterLink>
    <div class="head">
      <h1>What {{ name }} gets and may do</h1>
      <span v-if="reach" class="faint">{{ reach.role }}, covers {{ covers }}</span>
      <b v-if="reach?.shut" class="bad">disabled: gets none of it at present</b>
    </div>
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh" />
    <section v-if="reach?.collections?.length" class="sheet scrolls" tabindex="0" aria-label="By collection">
      <table class="plain">
        <thead>
          <tr
            ><th>Collection</th><th>Gets</th><th v-for="act in acts" :key="act">May {{ act }}</th></tr
          >
        </thead>
        <tbody>
          <tr v-for="c in reach.collections" :key="c.collection">
            <td
              ><RouterLink :to="{ name: 'definitions', params: { collection: c.collection } }">{{ c.title }}</RouterLink></td
            >
            <td
              ><RouterLink :to="{ name: 'records', params: { collection: c.collection }, query: { as: name } }"
                >{{ c.records.toLocaleString() }} of {{ c.of.toLocaleString() }}</RouterLink
              ><div v-if="leave(c.leaves, 'read')?.with !== 'all'" class="faint">at most: a rule says which</div></td
            >
            <td v-for="act in acts" :key="act" :data-act="`May ${act}: `" :class="{ faint: leave(c.leaves, act)?.with === 'none' }"
              >{{ words[leave(c.leaves, act)?.with ?? 'none'] }} <code v-if="leave(c.leaves, act)?.rule">{{ leave(c.leaves, act)?.rule }}</code></td
            >
          </tr>
        </tbody>
      </table>
    </section>
    <EmptyNote v-else-if="!loading && !problem" title="Nothing is defined yet">There is nothing to get.</EmptyNote>
    <p v-if="reach" class="faint note"
      >Of records that {{ name }} covers. A device gets what any of its people may have, and central asks again with every change that it brings.</p
    >
  </div>
</template>

<style scoped>
.scrolls {
  overflow-x: auto;
}
.note {
  max-width: 46rem;
}
code {
  display: block;
}
/* On a phone each collection is a paragraph of its own. */
@media (max-width: 720px) {
  thead {
    display: none;
  }
  tr,
  td {
    display: block;
  }
  tr {
    padding: 0.5rem 0;
    border-bottom: 1px solid var(--line);
  }
  .plain td {
    padding: 0.15rem 0.8rem;
    border: 0;
  }
  td:first-child {
    font-weight: 600;
  }
  td[data-act]::before {
    content: attr(data-act);
    color: var(--faint);
  }
}
</style>
