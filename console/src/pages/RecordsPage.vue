<script setup lang="ts">
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable, { type DataTablePageEvent, type DataTableRowClickEvent, type DataTableSortEvent } from 'primevue/datatable'
import InputText from 'primevue/inputtext'
import Paginator from 'primevue/paginator'
import { computed, onMounted, onUnmounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, type RecordRow } from '../api/client'
import { fieldsOf, forgetLabels, isLine, isNumber, isPoint, labelOf, referenced, schemaOf, useCollections } from '../collections'
import { drafted } from '../drafts'
import { ago, fullTime, plural, shown } from '../format'
import { useHeads } from '../live'
import { useNarrow } from '../narrow'
import { usePage } from '../page'
import AddDialog from '../parts/AddDialog.vue'
import EmptyNote from '../parts/EmptyNote.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { useSession } from '../session'

const pageSize = 25
const route = useRoute()
const router = useRouter()
const narrow = useNarrow()
const { mayEdit } = useSession()
const { collections, load, find } = useCollections()

const name = computed(() => String(route.params.collection))
const collection = computed(() => find(name.value))
const records = ref<RecordRow[]>([])
const total = ref(0)
const more = ref(false) // there are more than are counted
const adding = ref(false)
const fresh = ref(new Set<string>())
const box = ref<{ $el: HTMLInputElement }>()

// Where one is stands in the address, so that going back and sharing a link work.
const offset = computed(() => Number(route.query.from ?? 0) || 0)
const sort = computed(() => String(route.query.sort ?? ''))
const where = computed(() => String(route.query.where ?? ''))
/** The condition of a link from a parent's page, in words. */
const belongs = computed(() => {
  const above = collection.value?.parent
  const [field, id] = where.value.split('=')
  return above && field === above.field && id ? { collection: above.collection, id } : undefined
})
const search = ref(String(route.query.search ?? ''))
const go = (query: Record<string, string | undefined>) => router.replace({ query: { ...route.query, ...query } })

let timer: ReturnType<typeof setTimeout>
watch(search, (text) => {
  clearTimeout(timer)
  timer = setTimeout(() => go({ search: text || undefined, from: undefined }), 250)
})
watch(
  () => route.query,
  () => refresh(false),
)

const { problem, loading, refresh } = usePage(async (counts, live: boolean) => {
  loading.value = !live
  if (!collection.value || live) await load()
  const listing = await ask(
    api.GET('/v1/records/{collection}', {
      params: {
        path: { collection: name.value },
        query: {
          search: String(route.query.search ?? '') || undefined,
          where: where.value ? [where.value] : undefined,
          sort: sort.value || undefined,
          limit: pageSize,
          offset: offset.value,
        },
      },
    }),
  )
  if (!counts()) return
  if (live) note(listing.records ?? [])
  records.value = listing.records ?? []
  total.value = listing.total
  more.value = listing.more ?? false
}, false)

/** Rows that somebody has just changed light up for a while. */
function note(next: RecordRow[]) {
  const known = new Map(records.value.map((r) => [r.id, r.revision]))
  fresh.value = new Set(next.filter((r) => known.get(r.id) !== r.revision).map((r) => r.id))
}

useHeads((names) => {
  names.forEach(forgetLabels)
  if (names.length === 0 || names.includes(name.value)) refresh(true)
})

function slash(event: KeyboardEvent) {
  const typing = event.target instanceof HTMLElement && /^(INPUT|TEXTAREA|SELECT)$/.test(event.target.tagName)
  if (event.key !== '/' || typing) return
  event.preventDefault()
  box.value?.$el.focus()
}
onMounted(() => window.addEventListener('keydown', slash))
onUnmounted(() => {
  window.removeEventListener('keydown', slash)
  clearTimeout(timer) // what was typed just before one left is not searched on the next page
})

const columns = computed(() =>
  (collection.value?.fields ?? []).filter((f) => !isPoint(schemaOf(f)) && !isLine(schemaOf(f)) && (schemaOf(f).maxLength ?? 0) <= 200).slice(0, 6),
)
const rowClass = (record: RecordRow) => ['open-row', { fresh: fresh.value.has(record.id) }]
const open = (record: RecordRow) => router.push({ name: 'record', params: { collection: name.value, id: record.id } })
const onSort = (event: DataTableSortEvent) =>
  go({ sort: event.sortField ? `${event.sortOrder === -1 ? '-' : ''}${String(event.sortField)}` : undefined, from: undefined })
const onPage = (event: DataTablePageEvent | { first: number }) => go({ from: event.first ? String(event.first) : undefined })
</script>

<template>
  <div class="page">
    <div class="tabs" role="navigation" aria-label="Collections">
      <RouterLink v-for="c in collections" :key="c.collection" :to="{ name: 'records', params: { collection: c.collection } }"
        >{{ c.title }} <span class="faint">{{ c.records.toLocaleString() }}</span></RouterLink
      >
    </div>
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh(false)" />
    <template v-if="collection">
      <div class="head">
        <h1>{{ collection.title }}</h1>
        <span class="faint" role="status">{{ more ? 'more than ' : '' }}{{ plural(total, 'record') }}{{ route.query.search ? ' found' : '' }}</span>
        <span v-if="where" class="only">
          <template v-if="belongs"
            >of <RouterLink :to="{ name: 'record', params: belongs }">{{ referenced(belongs.collection, belongs.id) }}</RouterLink></template
          >
          <template v-else>where {{ where }}</template>
          <Button icon="pi pi-times" text rounded size="small" aria-label="Show all" title="Show all" @click="go({ where: undefined, from: undefined })" />
        </span>
        <span class="grow" />
        <InputText
          ref="box"
          v-model="search"
          type="search"
          :placeholder="narrow ? 'Search' : 'Search  ( / )'"
          aria-label="Search records"
          size="small"
          class="search"
          @keydown.esc="search = ''"
        />
        <Button v-if="mayEdit" :label="drafted(name, 'new') ? 'Go on with your draft' : 'Add'" icon="pi pi-plus" size="small" @click="adding = true" />
      </div>
      <div class="sheet">
        <EmptyNote v-if="!loading && !records.length && route.query.search" title="Nothing found"
          >No record has all of these words. <a href="#" @click.prevent="search = ''">Show all</a></EmptyNote
        >
        <EmptyNote v-else-if="!loading && !records.length && !problem" title="No records yet"
          >They appear here by themselves as soon as a device brings some, or somebody adds one.</EmptyNote
        >
        <template v-else-if="narrow">
          <div class="cards">
            <button v-for="r in records" :key="`${r.id} ${r.revision}`" class="card" :class="{ fresh: fresh.has(r.id) }" @click="open(r)">
              <b>{{ labelOf(collection, fieldsOf(r)) }}</b>
              <div class="faint">{{
                columns
                  .slice(1, 4)
                  .map((f) => shown(f, fieldsOf(r)[f.name]))
                  .filter(Boolean)
                  .join(' · ')
              }}</div>
              <div class="faint">{{ ago(r.edited_at) }} by {{ r.author }}</div>
            </button>
          </div>
          <Paginator
            v-if="total > pageSize"
            :rows="pageSize"
            :first="offset"
            :total-records="total"
            template="PrevPageLink CurrentPageReport NextPageLink"
            @page="onPage"
          />
        </template>
        <DataTable
          v-else
          :value="records"
          :row-class="rowClass"
          :loading="loading"
          lazy
          removable-sort
          data-key="id"
          size="small"
          :sort-field="sort.replace(/^-/, '') || undefined"
          :sort-order="sort.startsWith('-') ? -1 : 1"
          :paginator="total > pageSize"
          :rows="pageSize"
          :first="offset"
          :total-records="total"
          :current-page-report-template="`{first} to {last} of ${more ? 'more than ' : ''}{totalRecords}`"
          paginator-template="FirstPageLink PrevPageLink CurrentPageReport NextPageLink LastPageLink"
          @row-click="(e: DataTableRowClickEvent) => open(e.data as RecordRow)"
          @sort="onSort"
          @page="onPage"
        >
          <Column v-for="(f, n) in columns" :key="f.name" :field="f.name" :header="f.title" :sortable="!f.reference" :class="{ number: isNumber(schemaOf(f)) }">
            <template #body="{ data }">
              <RouterLink v-if="n === 0" :to="{ name: 'record', params: { collection: name, id: data.id } }" @click.stop>{{
                shown(f, fieldsOf(data)[f.name]) || '(none)'
              }}</RouterLink>
              <template v-else>{{ shown(f, fieldsOf(data)[f.name]) }}</template>
            </template>
          </Column>
          <Column field="revision" header="Rev." sortable class="number" />
          <Column field="edited_at" header="Edited" sortable>
            <template #body="{ data }"
              ><span :title="fullTime(data.edited_at)">{{ ago(data.edited_at) }}</span> <span class="faint">{{ data.author }}</span></template
            >
          </Column>
        </DataTable>
      </div>
      <AddDialog v-model:visible="adding" :collection="collection" @added="(id) => (fresh = new Set([id]))" />
    </template>
    <EmptyNote v-else-if="!loading && !problem" :title="`There is no collection ${name}`"><RouterLink to="/">All collections</RouterLink></EmptyNote>
  </div>
</template>

<style scoped>
.tabs {
  display: flex;
  gap: 0.3rem;
  margin-bottom: 0.8rem;
  overflow-x: auto;
  scrollbar-width: none;
}
.tabs a {
  padding: 0.25rem 0.7rem;
  border: 1px solid var(--line);
  border-radius: 4px;
  color: inherit;
  background: var(--sheet);
  white-space: nowrap;
}
.tabs a:hover {
  text-decoration: none;
  border-color: var(--accent);
}
.tabs a.router-link-active {
  border-color: var(--accent);
  box-shadow: inset 0 -2px 0 var(--accent);
}
.only {
  display: inline-flex;
  align-items: center;
  gap: 0.3rem;
}
.search {
  width: 18rem;
}
@media (max-width: 720px) {
  .search {
    flex: 1 1 8rem;
    width: 8rem;
  }
}
</style>
