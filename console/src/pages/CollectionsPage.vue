<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { useCollections } from '../collections'
import { ago, fullTime, plural } from '../format'
import { useHeads } from '../live'
import EmptyNote from '../parts/EmptyNote.vue'
import ProblemNote from '../parts/ProblemNote.vue'

const { collections, load } = useCollections()
const problem = ref('')

async function refresh() {
  try {
    await load()
    problem.value = ''
  } catch (error) {
    problem.value = (error as Error).message
  }
}
onMounted(refresh)
useHeads(refresh)
</script>

<template>
  <div class="page">
    <div class="head"><h1>Records</h1></div>
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh" />
    <div v-if="collections" class="sheet">
      <EmptyNote v-if="!collections.length" title="Nothing is defined yet">
        Say what is collected with <code>homing define trails.yaml</code>; <code>homing define --help</code> shows an example.
      </EmptyNote>
      <RouterLink v-for="c in collections" :key="c.collection" :to="{ name: 'records', params: { collection: c.collection } }" class="row">
        <span class="title">{{ c.title }}<span class="faint name mono">{{ c.collection }}</span></span>
        <span class="about faint">{{ c.description }}</span>
        <span class="count">{{ plural(c.records, 'record') }}</span>
        <span class="faint last" :title="fullTime(c.last_change)">{{ c.last_change ? `changed ${ago(c.last_change)}` : 'no change yet' }}</span>
        <span class="faint head-at" title="Position of the last accepted change">head {{ c.head }} · version {{ c.version }}</span>
      </RouterLink>
    </div>
  </div>
</template>

<style scoped>
.row { display: grid; grid-template-columns: minmax(11rem, 1fr) 2fr 8rem 10rem 11rem; gap: 0.3rem 1rem; align-items: baseline; padding: 0.75rem 1rem; border-bottom: 1px solid var(--line); color: inherit; }
.row:last-child { border-bottom: 0; }
.row:hover { text-decoration: none; background: var(--p-surface-100); }
.dark .row:hover { background: var(--p-surface-800); }
.title { font-weight: 600; color: var(--accent); }
.name { margin-left: 0.5rem; font-weight: 400; }
.count { text-align: right; }
.last, .head-at { font-size: 0.9rem; text-align: right; white-space: nowrap; }
@media (max-width: 900px) {
  .row { grid-template-columns: 1fr auto; }
  .about { grid-column: 1 / -1; order: 5; }
  .last { text-align: left; }
}
</style>
