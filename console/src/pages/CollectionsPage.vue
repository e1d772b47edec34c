<script setup lang="ts">
import { computed } from 'vue'
import type { Overview } from '../api/client'
import { useCollections } from '../collections'
import { ago, fullTime, plural } from '../format'
import { useHeads } from '../live'
import { usePage } from '../page'
import EmptyNote from '../parts/EmptyNote.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { useSession } from '../session'

const { collections, load } = useCollections()
const { mayEdit } = useSession()

const { problem, refresh } = usePage(async () => {
  await load()
})

/** Each collection below the one that it belongs to. */
const tree = computed(() => {
  const all = collections.value ?? []
  const below = (parent: string | undefined, depth: number): { c: Overview; depth: number }[] =>
    all.filter((c) => c.parent?.collection === parent).flatMap((c) => [{ c, depth }, ...below(c.collection, depth + 1)])
  return below(undefined, 0)
})
/** How devices keep a collection, where that is not simply always and both ways. */
function kept(c: Overview): string {
  const parts = []
  if (c.sync.direction === 'up') parts.push('goes up only')
  if (c.sync.direction === 'down') parts.push('comes down only')
  if (c.sync.keep === 'never') parts.push('never kept on devices')
  else if (c.sync.keep === 'on demand') parts.push('looked up on demand')
  else if (c.sync.keep && c.sync.keep !== 'always') parts.push(`kept for ${c.sync.keep}`)
  if (c.sync.territory) parts.push('by territory')
  return parts.join(' · ')
}
useHeads(refresh)
</script>

<template>
  <div class="page">
    <div class="head"
      ><h1>Records</h1><span class="grow" /><RouterLink v-if="mayEdit" to="/import" class="bring"
        ><i class="pi pi-upload" aria-hidden="true" /> Bring in a table</RouterLink
      ></div
    >
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh" />
    <div v-if="collections" class="sheet">
      <EmptyNote v-if="!collections.length" title="Nothing is defined yet">
        Say what is collected under <RouterLink to="/definitions">Definitions</RouterLink>, by <RouterLink to="/import">bringing in a table</RouterLink>, or
        with <code>homing define trails.yaml</code>.
      </EmptyNote>
      <RouterLink v-for="{ c, depth } in tree" :key="c.collection" :to="{ name: 'records', params: { collection: c.collection } }" class="row">
        <span class="title" :style="{ paddingLeft: `calc(${depth} * var(--step))` }"
          ><span v-if="depth" class="faint" aria-hidden="true">└ </span>{{ c.title }}<span class="faint name mono">{{ c.collection }}</span></span
        >
        <span class="about faint"
          >{{ c.description }}<span v-if="kept(c)" class="kept">{{ kept(c) }}</span></span
        >
        <span class="count">{{ plural(c.records, 'record') }}</span>
        <span class="faint last" :title="fullTime(c.last_change)">{{ c.last_change ? `changed ${ago(c.last_change)}` : 'no change yet' }}</span>
        <span class="faint head-at" title="Position of the last accepted change">head {{ c.head }} · version {{ c.version }}</span>
      </RouterLink>
    </div>
  </div>
</template>

<style scoped>
.sheet {
  --step: 1.3rem;
}
.row {
  display: grid;
  grid-template-columns: minmax(11rem, 1fr) 2fr 8rem 10rem 11rem;
  gap: 0.3rem 1rem;
  align-items: baseline;
  padding: 0.75rem 1rem;
  border-bottom: 1px solid var(--line);
  color: inherit;
}
.row:last-child {
  border-bottom: 0;
}
.row:hover {
  text-decoration: none;
  background: var(--p-surface-100);
}
.dark .row:hover {
  background: var(--p-surface-800);
}
.title {
  font-weight: 600;
  color: var(--accent);
}
.kept {
  display: block;
  font-size: 0.86rem;
  color: var(--ink);
}
.name {
  margin-left: 0.5rem;
  font-weight: 400;
}
.count {
  text-align: right;
}
.last,
.head-at {
  font-size: 0.9rem;
  text-align: right;
  white-space: nowrap;
}
@media (max-width: 900px) {
  .sheet {
    --step: 0.6rem;
  }
  .title {
    overflow-wrap: anywhere;
  }
  .head-at {
    display: none;
  }
  .row {
    grid-template-columns: minmax(0, 1fr) auto;
  }
  .about {
    grid-column: 1 / -1;
    order: 5;
  }
  .last {
    text-align: left;
  }
}
</style>
