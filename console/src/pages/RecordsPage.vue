<script setup lang="ts">
import { useEventListener, watchDebounced } from '@vueuse/core'
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable, { type DataTablePageEvent, type DataTableRowClickEvent, type DataTableSortEvent } from 'primevue/datatable'
import InputText from 'primevue/inputtext'
import Menu from 'primevue/menu'
import Paginator from 'primevue/paginator'
import { computed, defineAsyncComponent, onUnmounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, type RecordRow } from '../api/client'
import { fieldsOf, forgetLabels, labelOf, referenced, useCollections } from '../collections'
import { isLine, isNumber, isPoint, schemaOf } from '../../../faces/schema'
import { drafted } from '../drafts'
import { ago, fullTime, plural, shown } from '../format'
import { useHeads } from '../live'
import { useNarrow } from '../narrow'
import { usePage } from '../page'
import AttentionMark from '../parts/AttentionMark.vue'
import EmptyNote from '../parts/EmptyNote.vue'
import OfferNews from '../parts/OfferNews.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { setTitle } from '../router'
import { useSession } from '../session'

// What is only there once somebody asks for it.
const AddDialog = defineAsyncComponent(() => import('../parts/AddDialog.vue'))
const FilterForm = defineAsyncComponent(() => import('../parts/FilterForm.vue'))
const ManyEdit = defineAsyncComponent(() => import('../parts/ManyEdit.vue'))
const MultiSelect = defineAsyncComponent(() => import('primevue/multiselect'))
const MapView = defineAsyncComponent(() => import('../parts/MapView.vue'))

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
const filtering = ref(false)
const fresh = ref(new Set<string>())
const selected = ref<RecordRow[]>([])
const many = ref<'edit' | 'remove'>()
const box = ref<{ $el: HTMLInputElement }>()
/** What central has now, where taking it over would move what is shown. */
const offered = ref<{ listing: Awaited<ReturnType<typeof get>>; text: string }>()

// Where one is stands in the address, so that going back, sharing a link and keeping a view as a bookmark work.
const text = (of: string) => String(route.query[of] ?? '')
const offset = computed(() => Number(route.query.from ?? 0) || 0)
const sort = computed(() => text('sort'))
const where = computed(() => [route.query.where ?? []].flat().map(String))
const removed = computed(() => text('removed') === 'true')
const onMap = computed(() => text('view') === 'map' && hasPlaces.value)
type Query = Record<string, string | string[] | undefined>
const go = (query: Query) => router.replace({ query: { ...route.query, ...query } })
/** The condition of a link from a parent's page, in words. */
const above = computed(() => {
  const parent = collection.value?.parent
  const condition = where.value.find((one) => parent && one.startsWith(`${parent.field}=`))
  const id = condition?.split('=')[1]
  return parent && condition && id ? { condition, collection: parent.collection, id } : undefined
})
const search = ref(text('search'))
const asked = computed(() => ({
  search: text('search') || undefined,
  where: where.value.length ? where.value : undefined,
  sort: sort.value || undefined,
  removed: removed.value || undefined,
  by: text('by') || undefined,
  since: text('since') || undefined,
  within: text('within') || undefined,
  as: text('as') || undefined,
}))
const narrowed = computed(() => !!(asked.value.search || asked.value.where || asked.value.by || asked.value.since || asked.value.within || asked.value.as))

let left = false
onUnmounted(() => (left = true))
// What was typed just before one left is not searched on the next page.
watchDebounced(search, (typed) => left || go({ search: typed || undefined, from: undefined }), { debounce: 250 })
watch(
  () => JSON.stringify([asked.value, offset.value]),
  () => refresh(false),
)

const get = () =>
  ask(api.GET('/v1/records/{collection}', { params: { path: { collection: name.value }, query: { ...asked.value, limit: pageSize, offset: offset.value } } }))

const { problem, loading, refresh } = usePage(async (counts, live: boolean) => {
  loading.value = !live
  const overviews = !collection.value || live ? load() : undefined
  const listing = await get()
  await overviews
  if (!counts()) return
  if (live && moves(listing.records ?? [])) {
    const known = new Set(records.value.map((r) => r.id))
    const others = (listing.records ?? []).filter((r) => !known.has(r.id)).length
    offered.value = { listing, text: others ? `${others} more: show` : 'The order has changed: show' }
    update(listing.records ?? [])
    return
  }
  if (live) note(listing.records ?? [])
  take(listing)
}, false)
watch(collection, (c) => c && setTitle(c.title), { immediate: true })

function take(listing: Awaited<ReturnType<typeof get>>) {
  records.value = listing.records ?? []
  total.value = listing.total
  more.value = listing.more ?? false
  offered.value = undefined
  const here = new Map(records.value.map((r) => [r.id, r]))
  selected.value = selected.value.map((r) => here.get(r.id)).filter((r) => r !== undefined)
}
function takeOffered() {
  const it = offered.value
  if (!it) return
  note(it.listing.records ?? [])
  take(it.listing)
}
/** Whether rows that are shown would stand elsewhere, or be gone. */
const moves = (next: RecordRow[]) => records.value.some((r, n) => next[n]?.id !== r.id)
/** Gives the rows that are shown their new values, where they stand. */
function update(next: RecordRow[]) {
  const latest = new Map(next.map((r) => [r.id, r]))
  note(next.filter((r) => records.value.some((known) => known.id === r.id)))
  records.value = records.value.map((r) => latest.get(r.id) ?? r)
}
/** Rows that somebody has just changed light up for a while. */
function note(next: RecordRow[]) {
  const known = new Map(records.value.map((r) => [r.id, r.revision]))
  fresh.value = new Set(next.filter((r) => known.get(r.id) !== r.revision).map((r) => r.id))
}

useHeads((names) => {
  names.forEach(forgetLabels)
  if (names.length === 0 || names.includes(name.value)) refresh(true)
})
// On a phone, cards are chosen once somebody says so: a tap opens one otherwise.
const choosing = ref(false)
const chosenIDs = computed(() => new Set(selected.value.map((r) => r.id)))
function choose(r: RecordRow) {
  selected.value = chosenIDs.value.has(r.id) ? selected.value.filter((one) => one.id !== r.id) : [...selected.value, r]
}
/** One's own changes are shown at once: whoever made them expects them. */
async function ownDone(id?: string) {
  await refresh(true)
  takeOffered()
  if (id) fresh.value = new Set([id])
  selected.value = []
}

function slash(event: KeyboardEvent) {
  const typing = event.target instanceof HTMLElement && /^(INPUT|TEXTAREA|SELECT)$/.test(event.target.tagName)
  if (event.key !== '/' || typing) return
  event.preventDefault()
  box.value?.$el.focus()
}
useEventListener(window, 'keydown', slash)

const hasPlaces = computed(() => (collection.value?.fields ?? []).some((f) => isPoint(schemaOf(f)) || isLine(schemaOf(f))))
const plainFields = computed(() => (collection.value?.fields ?? []).filter((f) => !isPoint(schemaOf(f)) && !isLine(schemaOf(f))))
const usual = computed(() => {
  const short = plainFields.value.filter((f) => (schemaOf(f).maxLength ?? 0) <= 200).slice(0, 6)
  return short.length ? short : (collection.value?.fields ?? []).slice(0, 6) // of a collection of places alone, these
})
const columns = computed(() => {
  const names = text('columns').split(',').filter(Boolean)
  const chosen = names.map((one) => collection.value?.fields?.find((f) => f.name === one)).filter((f) => f !== undefined)
  return chosen.length ? chosen : usual.value
})
const columnNames = computed({
  get: () => columns.value.map((f) => f.name),
  set: (names) => go({ columns: names.join(',') === usual.value.map((f) => f.name).join(',') ? undefined : names.join(',') || undefined }),
})
const rowClass = (record: RecordRow) => ['open-row', { fresh: fresh.value.has(record.id) }]
const open = (record: RecordRow) => router.push({ name: 'record', params: { collection: name.value, id: record.id } })
function openRow(event: DataTableRowClickEvent) {
  const at = event.originalEvent.target as HTMLElement
  if (at.closest('a, button, input, .p-checkbox, .p-selection-column') || window.getSelection()?.toString()) return
  open(event.data as RecordRow)
}
const onSort = (event: DataTableSortEvent) =>
  go({ sort: event.sortField ? `${event.sortOrder === -1 ? '-' : ''}${String(event.sortField)}` : undefined, from: undefined })
const onPage = (event: DataTablePageEvent | { first: number }) => go({ from: event.first ? String(event.first) : undefined })

const fieldTitle = (of: string) => collection.value?.fields?.find((f) => f.name === of)?.title ?? of
/** A condition in words. */
function said(condition: string): string {
  const [, field = '', op = '', value = ''] = /^(\w+)(!=|<=|>=|=|<|>|~)(.*)$/.exec(condition) ?? []
  if (!value && op) return `${fieldTitle(field)} ${op === '=' ? 'has no value' : 'has a value'}`
  const words: Record<string, string> = { '=': 'is', '!=': 'is not', '~': 'contains', '>=': 'at least', '<': 'less than', '<=': 'at most', '>': 'more than' }
  const schema = schemaOf(collection.value?.fields?.find((f) => f.name === field) ?? ({} as never))
  return `${fieldTitle(field)} ${words[op] ?? op} ${schema.type === 'boolean' ? (value === 'true' ? 'yes' : 'no') : value}`
}
/** Conditions that say what one field is stand together: any of them may hold. */
const grouped = computed(() => {
  const groups = new Map<string, string[]>()
  for (const one of where.value) {
    if (one === above.value?.condition) continue
    const is = /^(\w+)=./.exec(one)
    const key = is ? is[1]! : one
    groups.set(key, [...(groups.get(key) ?? []), one])
  }
  return [...groups.values()]
})
const saidTogether = (all: string[]) => [said(all[0]!), ...all.slice(1).map((one) => said(one).replace(/^.* is /, ''))].join(' or ')
const chips = computed(() => [
  ...grouped.value.map((all) => ({
    text: saidTogether(all),
    drop: () => go({ where: where.value.filter((other) => !all.includes(other)), from: undefined }),
  })),
  ...(asked.value.as ? [{ text: `as ${asked.value.as} sees it`, drop: () => go({ as: undefined, from: undefined }) }] : []),
  ...(asked.value.by ? [{ text: `edited last by ${asked.value.by}`, drop: () => go({ by: undefined, from: undefined }) }] : []),
  ...(asked.value.since ? [{ text: `edited since ${fullTime(asked.value.since)}`, drop: () => go({ since: undefined, from: undefined }) }] : []),
  ...(asked.value.within ? [{ text: 'within an area', drop: () => go({ within: undefined, from: undefined }) }] : []),
])

const exports = ref<{ toggle: (event: Event) => void }>()
const formats = computed(() =>
  (['csv', 'xlsx', 'ndjson', ...(hasPlaces.value ? ['geojson'] : [])] as const).map((format) => {
    const query = new URLSearchParams({ format })
    for (const [key, value] of Object.entries(asked.value)) if (value !== undefined) [value].flat().forEach((one) => query.append(key, String(one)))
    return { label: { csv: 'CSV', xlsx: 'Excel workbook', ndjson: 'NDJSON', geojson: 'GeoJSON' }[format as 'csv'], url: `/v1/export/${name.value}?${query}` }
  }),
)
</script>

<template>
  <div class="page">
    <div class="tabs" role="navigation" aria-label="Collections">
      <RouterLink
        v-for="c in collections"
        :key="c.collection"
        :to="{ name: 'records', params: { collection: c.collection } }"
        :class="{ here: c.collection === name }"
        >{{ c.title }} <span class="faint">{{ c.records.toLocaleString() }}</span></RouterLink
      >
    </div>
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh(false)" />
    <template v-if="collection">
      <div class="head">
        <h1>{{ collection.title }}</h1>
        <span class="faint" role="status"
          >{{ more ? 'more than ' : '' }}{{ plural(total, removed ? 'removed record' : 'record') }}{{ narrowed ? ' found' : '' }}</span
        >
        <span v-if="above" class="only">
          of
          <RouterLink :to="{ name: 'record', params: { collection: above.collection, id: above.id } }">{{ referenced(above.collection, above.id) }}</RouterLink>
          <Button
            icon="pi pi-times"
            text
            rounded
            size="small"
            aria-label="Show all"
            title="Show all"
            @click="go({ where: where.filter((one) => one !== above?.condition), from: undefined })"
          />
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
      <div class="filters tools">
        <span v-for="chip in chips" :key="chip.text" class="chip"
          >{{ chip.text }}<Button icon="pi pi-times" text rounded size="small" :aria-label="`Without: ${chip.text}`" @click="chip.drop"
        /></span>
        <FilterForm
          v-if="filtering"
          :collection="collection"
          @add="go({ where: [...where, ...$event], from: undefined })"
          @by="go({ by: $event, from: undefined })"
          @since="go({ since: $event, from: undefined })"
        />
        <Button v-else label="Filter" icon="pi pi-filter" size="small" text @click="filtering = true" />
        <span class="grow" />
        <MultiSelect
          v-if="!onMap"
          v-model="columnNames"
          :options="collection.fields ?? []"
          option-label="title"
          option-value="name"
          :max-selected-labels="0"
          selected-items-label="Columns"
          aria-label="Columns"
          size="small"
        />
        <Button
          v-if="narrow && mayEdit && !removed && !onMap && records.length"
          :label="choosing ? 'Done choosing' : 'Choose several'"
          size="small"
          text
          @click="choosing = !choosing"
        />
        <Button
          :label="removed ? 'Show those that are there' : 'Removed ones'"
          size="small"
          text
          @click="go({ removed: removed ? undefined : 'true', from: undefined })"
        />
        <Button
          v-if="hasPlaces"
          :label="onMap ? 'Table' : 'Map'"
          :icon="onMap ? 'pi pi-table' : 'pi pi-map'"
          size="small"
          text
          @click="go({ view: onMap ? undefined : 'map' })"
        />
        <Button label="Export" icon="pi pi-download" size="small" text aria-haspopup="true" @click="exports?.toggle($event)" />
        <Menu ref="exports" :model="formats" popup>
          <template #item="{ item, props: menu }"
            ><a v-bind="menu.action" :href="item.url" download>{{ item.label }}</a></template
          >
        </Menu>
      </div>
      <div v-if="selected.length" class="filters chosen" role="status">
        <b>{{ plural(selected.length, 'record') }} chosen</b>
        <Button label="Edit a field" icon="pi pi-pencil" size="small" severity="secondary" @click="many = 'edit'" />
        <Button label="Remove" icon="pi pi-trash" size="small" severity="secondary" @click="many = 'remove'" />
        <Button label="Choose none" size="small" text @click="selected = []" />
      </div>
      <div class="sheet">
        <MapView v-if="onMap" :collection="collection" :query="asked" @area="go({ within: $event, from: undefined })" />
        <EmptyNote v-else-if="!loading && !records.length && narrowed" title="Nothing found"
          >No record fits. <a href="#" @click.prevent="((search = ''), router.replace({ query: {} }))">Show all</a></EmptyNote
        >
        <EmptyNote v-else-if="!loading && !records.length && removed" title="No record was removed"
          >What is removed goes from every device, and stays here.</EmptyNote
        >
        <EmptyNote v-else-if="!loading && !records.length && !problem" title="No records yet"
          >They appear here by themselves as soon as a device brings some, or somebody adds one.</EmptyNote
        >
        <template v-else-if="narrow">
          <div class="cards">
            <button
              v-for="r in records"
              :key="`${r.id} ${r.revision}`"
              class="card"
              :class="{ fresh: fresh.has(r.id) }"
              :aria-pressed="choosing ? chosenIDs.has(r.id) : undefined"
              @click="choosing ? choose(r) : open(r)"
            >
              <i v-if="choosing" class="mark" :class="chosenIDs.has(r.id) ? 'pi pi-check-square' : 'pi pi-stop'" />
              <b>{{ labelOf(collection, fieldsOf(r)) }}</b>
              <AttentionMark :record="r" />
              <span class="line faint">{{
                (columns === usual ? columns.slice(1, 4) : columns)
                  .map((f) => shown(f, fieldsOf(r)[f.name]))
                  .filter(Boolean)
                  .join(' · ')
              }}</span>
              <span class="line faint">{{ ago(r.edited_at) }} by {{ r.author }}</span>
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
          v-model:selection="selected"
          :value="records"
          :row-class="rowClass"
          :class="{ busy: loading }"
          :aria-busy="loading"
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
          @row-click="openRow"
          @sort="onSort"
          @page="onPage"
        >
          <Column v-if="mayEdit && !removed" selection-mode="multiple" header-style="width: 2.6rem" />
          <Column v-for="(f, n) in columns" :key="f.name" :field="f.name" :header="f.title" :sortable="!f.reference" :class="{ number: isNumber(schemaOf(f)) }">
            <template #body="{ data }">
              <RouterLink v-if="n === 0" :to="{ name: 'record', params: { collection: name, id: data.id } }" @click.stop>{{
                shown(f, fieldsOf(data)[f.name]) || '(none)'
              }}</RouterLink>
              <AttentionMark v-if="n === 0" :record="data" class="beside" />
              <template v-if="n > 0">{{ shown(f, fieldsOf(data)[f.name]) }}</template>
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
      <OfferNews :text="offered?.text ?? ''" @take="takeOffered" />
      <AddDialog v-if="adding" v-model:visible="adding" :collection="collection" @added="ownDone" />
      <ManyEdit v-if="many" v-model:what="many" :collection="collection" :records="selected" @done="ownDone()" />
    </template>
    <EmptyNote v-else-if="!loading && !problem" :title="`There is no collection ${name}`"><RouterLink to="/records">All collections</RouterLink></EmptyNote>
  </div>
</template>

<style scoped>
.beside {
  margin-left: 0.5rem;
}
/* What was shown stays, and can be pressed, while more comes. */
.busy {
  opacity: 0.6;
  transition: opacity 0.2s 0.15s;
}
.tools {
  margin-bottom: 0.5rem;
}
.tools .grow {
  flex: 1;
}
.chip {
  display: inline-flex;
  align-items: center;
  gap: 0.2rem;
  padding-left: 0.6rem;
  border: 1px solid var(--line);
  border-radius: 1rem;
  background: var(--sheet);
  font-size: 0.92rem;
}
.mark {
  margin-right: 0.5rem;
  color: var(--accent);
}
.line {
  display: block;
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
