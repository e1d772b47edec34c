<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, type Accepted, type Delta } from '../api/client'
import { useCollections } from '../collections'
import { ago, fullTime, shown } from '../format'
import { useHeads } from '../live'
import { usePage } from '../page'
import EmptyNote from '../parts/EmptyNote.vue'
import OfferNews from '../parts/OfferNews.vue'
import ProblemNote from '../parts/ProblemNote.vue'

const route = useRoute()
const router = useRouter()
const { collections, load, find } = useCollections()
const changes = ref<Accepted[]>()
const next = ref<string>()
const newer = ref(0)
const loadingMore = ref(false)

const text = (name: string) => String(route.query[name] ?? '')
const go = (query: Record<string, string | undefined>) => router.replace({ query: { ...route.query, ...query } })
const asked = computed(() => ({
  collection: text('collection') || undefined,
  by: text('by') || undefined,
  device: text('device') || undefined,
  batch: text('batch') || undefined,
  at_central: text('at_central') === 'true' || undefined,
  since: text('since') ? new Date(text('since')).toISOString() : undefined,
}))

const { problem, refresh } = usePage(async (counts) => {
  if (!collections.value) await load()
  const page = await ask(api.GET('/v1/accepted', { params: { query: { ...asked.value, limit: 50 } } }))
  if (!counts()) return
  changes.value = page.changes ?? []
  next.value = page.next
  newer.value = 0
})
watch(
  () => route.query,
  () => refresh(),
)
useHeads(async () => {
  if (!changes.value?.length) return refresh()
  const page = await ask(api.GET('/v1/accepted', { params: { query: { ...asked.value, limit: 50 } } })).catch(() => undefined)
  const known = new Set(changes.value.map(keyOf))
  newer.value = (page?.changes ?? []).filter((c) => !known.has(keyOf(c))).length
})
async function more() {
  loadingMore.value = true
  const page = await ask(api.GET('/v1/accepted', { params: { query: { ...asked.value, limit: 50, before: next.value } } })).catch((error: Error) => {
    problem.value = error.message
  })
  loadingMore.value = false
  if (!page) return
  changes.value = [...(changes.value ?? []), ...(page.changes ?? [])]
  next.value = page.next
}

const any = 'any' // stands for no narrowing in a list of choices
const keyOf = (c: Accepted) => `${c.collection} ${c.record} ${c.revision}`
const choices = computed(() => [{ title: 'all collections', collection: any }, ...(collections.value ?? [])])
const verbs: Record<string, string> = { add: 'added', edit: 'edited', remove: 'removed' }
const fieldOf = (c: Accepted, name: string) => find(c.collection)?.fields?.find((f) => f.name === name)
/** What changed, in a line; all of it stands with the record. */
function differences(c: Accepted) {
  return Object.entries((c.fields ?? {}) as Delta)
    .slice(0, 4)
    .map(([name, edit]) => ({
      name: fieldOf(c, name)?.title ?? name,
      from: c.kind === 'add' ? undefined : shown(fieldOf(c, name), edit.from),
      to: shown(fieldOf(c, name), edit.to),
    }))
}
const rest = (c: Accepted) => Object.keys((c.fields ?? {}) as Delta).length - 4
</script>

<template>
  <div class="page">
    <div class="head"><h1>Changes</h1><span class="faint">what central has accepted, the latest first</span></div>
    <form class="filters" @submit.prevent>
      <label for="collection">In</label>
      <Select
        :model-value="text('collection') || any"
        input-id="collection"
        aria-label="Collection"
        :options="choices"
        option-label="title"
        option-value="collection"
        size="small"
        @update:model-value="go({ collection: $event === any ? undefined : $event })"
      />
      <label for="by">by</label>
      <InputText
        id="by"
        :model-value="text('by')"
        size="small"
        placeholder="anybody"
        class="short"
        @change="go({ by: ($event.target as HTMLInputElement).value.trim() || undefined })"
      />
      <label for="device">from the device</label>
      <InputText
        id="device"
        :model-value="text('device')"
        size="small"
        placeholder="any"
        class="short"
        @change="go({ device: ($event.target as HTMLInputElement).value.trim() || undefined })"
      />
      <label for="since">received since</label>
      <InputText
        id="since"
        type="datetime-local"
        :model-value="text('since')"
        size="small"
        @change="go({ since: ($event.target as HTMLInputElement).value || undefined })"
      />
      <Button v-if="Object.keys(route.query).length" label="Show all" icon="pi pi-times" text size="small" @click="router.replace({ query: {} })" />
    </form>
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh()" />
    <div v-if="changes" class="sheet">
      <EmptyNote v-if="!changes.length" title="No change fits">What devices bring and what is edited here is listed as central accepts it.</EmptyNote>
      <ol v-else class="log">
        <li v-for="c in changes" :key="keyOf(c)" :class="c.kind">
          <span class="faint time" :title="fullTime(c.received_at)">{{ ago(c.received_at) }}</span>
          <span
            >{{ c.author }} <span class="faint">{{ verbs[c.kind] }}</span>{{ ' '
            }}<RouterLink :to="{ name: 'record', params: { collection: c.collection, id: c.record } }">{{ c.label || c.record }}</RouterLink>
            <span class="faint"> in {{ find(c.collection)?.title ?? c.collection }}{{ c.device ? `, on ${c.device}` : ', at central' }}</span>
            <span v-if="c.decisions?.length" class="warn"> · met another edit</span></span
          >
          <span class="what">
            <span v-for="d in differences(c)" :key="d.name" class="one"
              ><span class="faint">{{ d.name }}</span
              >{{ ' ' }}
              <template v-if="d.from !== undefined"
                ><del>{{ d.from || '(none)' }}</del> → </template
              >{{ d.to || '(none)' }}</span
            ><span v-if="rest(c) > 0" class="faint">and {{ rest(c) }} more</span>
          </span>
        </li>
      </ol>
    </div>
    <Button v-if="next" label="Earlier ones" severity="secondary" size="small" class="more" :loading="loadingMore" @click="more" />
    <OfferNews :text="newer ? `${newer === 50 ? 'Many' : newer} newer: show` : ''" @take="refresh()" />
  </div>
</template>

<style scoped>
.short {
  width: 9rem;
}
.log {
  list-style: none;
  margin: 0;
  padding: 0;
}
.log li {
  display: grid;
  grid-template-columns: 6.5rem minmax(0, 5fr) minmax(0, 6fr);
  gap: 0.2rem 1rem;
  padding: 0.5rem 0.9rem;
  border-bottom: 1px solid var(--line);
  overflow-wrap: anywhere;
}
.log li:last-child {
  border-bottom: 0;
}
.log li.remove a {
  text-decoration: line-through;
}
.what {
  display: flex;
  flex-wrap: wrap;
  gap: 0.1rem 1rem;
  font-size: 0.93rem;
}
del {
  color: var(--faint);
}
.more {
  margin-top: 0.8rem;
}
@media (max-width: 720px) {
  .log li {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
