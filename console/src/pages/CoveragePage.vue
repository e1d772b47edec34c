<script setup lang="ts">
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, type Cell, type Grid } from '../api/client'
import { useCollections } from '../collections'
import { fullTime, plural } from '../format'
import { useHeads } from '../live'
import { usePage } from '../page'
import AddDialog from '../parts/AddDialog.vue'
import EmptyNote from '../parts/EmptyNote.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { useSession } from '../session'
import { momentOf, localOf } from '../../../faces/moments'
import { sayDay, sayPeriod, shortPeriod } from '../../../faces/periods'
import { parsePeriod } from '../../../clients/typescript/src/core/period'

/** Which places have reported for which periods: a grid, its sums, and what is missing as a list to hand out. */
const StackedChart = defineAsyncComponent(() => import('../parts/StackedChart.vue'))
const page = 100
const route = useRoute()
const router = useRouter()
const { collections, load, find } = useCollections()
const { mayEdit } = useSession()

const able = computed(() => (collections.value ?? []).filter((c) => c.coverage))
const name = computed(() => String(route.params.collection || able.value[0]?.collection || ''))
const collection = computed(() => find(name.value))
const grid = ref<Grid>()
const asked = (key: string) => String(route.query[key] ?? '')
/** What narrows the grid stands in the address, so that it can be sent to somebody. */
const narrow = (change: Record<string, string | undefined>) => router.replace({ query: { ...route.query, offset: undefined, ...change } })

const { problem, loading, refresh } = usePage(async (counts) => {
  if (!collections.value) await load()
  if (!name.value) return
  const state = (asked('state') || (asked('view') ? 'owed' : '')) as 'owed' | ''
  const query = {
    from: asked('from') || undefined,
    until: asked('until') || undefined,
    state: state || undefined,
    territory: asked('territory') || undefined,
    worker: asked('worker') || undefined,
    search: asked('search') || undefined,
    today: momentOf(localOf(new Date().toISOString())),
    limit: asked('view') ? 1000 : page,
    offset: Number(asked('offset') || 0),
  }
  const got = await ask(api.GET('/v1/coverage/{collection}', { params: { path: { collection: name.value }, query } }))
  if (counts()) grid.value = got
})
watch([name, () => route.query], () => refresh())
useHeads((names) => {
  if (names.length === 0 || names.includes(name.value) || names.includes(grid.value?.of ?? '')) refresh()
})

const columns = computed(() => grid.value?.periods ?? [])
const places = computed(() => grid.value?.places ?? [])
const share = (part: number, of: number) => (of ? Math.round((part / of) * 100) : 0)

/** Moves the window by as many periods as it shows. */
function move(by: number) {
  const g = grid.value
  const [first, last] = [g?.periods?.[0], g?.periods?.at(-1)].map((c) => c && parsePeriod(g!.kind, c.period))
  if (!g || !first || !last) return
  const step = by * columns.value.length
  narrow({ from: String(first.plus(step)), until: String(last.plus(step)) })
}
const windows = [4, 8, 13, 26, 52]
function show(count: number) {
  const last = grid.value && parsePeriod(grid.value.kind, columns.value.at(-1)!.period)
  if (last) narrow({ from: String(last.plus(1 - count)), until: String(last) })
}
const isNow = computed(() => {
  const last = columns.value.at(-1)
  return !last || last.last >= (grid.value?.today ?? '')
})

const states = [
  { value: 'owed', label: 'with something owed' },
  { value: 'late', label: 'with something late' },
  { value: 'missing', label: 'with something missing' },
  { value: 'begun', label: 'with something begun' },
  { value: 'complete', label: 'with something complete' },
]
const territories = computed(() =>
  Object.keys(grid.value?.territories ?? {})
    .filter((key) => key !== '*' || asked('territory') === '*')
    .sort(),
)
const search = ref(asked('search'))
let typed = 0
watch(search, (text) => {
  clearTimeout(typed)
  typed = window.setTimeout(() => narrow({ search: text || undefined }), 300)
})

const sign = (c: Cell) => (c.state === 'complete' ? '✓' : c.state === 'begun' ? '◐' : c.late ? '!' : '○')
function told(c: Cell): string {
  const by = c.by ? ` ${c.state === 'complete' ? 'by' : 'last edited by'} ${c.by}, ${fullTime(c.at)}` : ''
  if (c.state === 'complete') return `complete${c.late ? ', late' : ''}${by}`
  return `${c.state}${c.late ? ', late' : ''}${by}${c.expected ? '' : ', not expected'}`
}

// An empty cell begins its record.
const adding = ref(false)
const preset = ref<Record<string, string>>()
function open(place: string, period: string, cell: Cell) {
  if (cell.record) return router.push({ name: 'record', params: { collection: name.value, id: cell.record } })
  if (!mayEdit.value) return
  preset.value = { [grid.value!.place]: place, [grid.value!.period]: period }
  adding.value = true
}

const owed = computed(() =>
  columns.value.flatMap((column, n) =>
    places.value
      .map((place) => ({ place, column, cell: place.cells?.[n] }))
      .filter((one): one is typeof one & { cell: Cell } => !!one.cell?.expected && one.cell.state !== 'complete'),
  ),
)
/** A cell of a file for a spreadsheet. A text that one would work out is marked as a text. */
const safe = (text: string) => `"${(/^[=+\-@\t\r]/.test(text) ? `'${text}` : text).replaceAll('"', '""')}"`
/** The list as a file. */
function download() {
  const lines = owed.value.map(({ place, column, cell }) =>
    [place.label, column.period, column.due, cell.state, cell.late ? 'late' : '', (place.territories ?? []).join(' ')].map(safe).join(','),
  )
  const file = new Blob([['place,period,due,state,late,territories', ...lines, ''].join('\r\n')], { type: 'text/csv' })
  const link = Object.assign(document.createElement('a'), { href: URL.createObjectURL(file), download: `${name.value}-owed.csv` })
  link.click()
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000)
}
const print = () => window.print()

const series = computed(() => [
  { name: 'complete', values: columns.value.map((c) => c.complete), colour: '#009e73' },
  { name: 'begun', values: columns.value.map((c) => c.begun), colour: '#d7a000' },
  // Of one period, all that is missing is late, or nothing is.
  { name: 'missing', values: columns.value.map((c) => (c.late ? 0 : c.missing)), colour: '#b9b1a6' },
  { name: 'missing, late', values: columns.value.map((c) => (c.late ? c.missing : 0)), colour: '#c4622a' },
])
const byTerritory = computed(() => territories.value.map((key) => ({ key, ...grid.value!.territories[key]! })))
const byWorker = computed(() => Object.entries(grid.value?.workers ?? {}).map(([key, sums]) => ({ key, ...sums })))
</script>

<template>
  <div class="page">
    <div class="head">
      <h1>Coverage</h1>
      <Select
        v-if="able.length > 1"
        :model-value="name"
        :options="able"
        option-label="title"
        option-value="collection"
        aria-label="Collection"
        size="small"
        @update:model-value="router.push({ name: 'coverage', params: { collection: $event } })"
      />
      <span v-else-if="collection" class="faint">of {{ collection.title }}</span>
      <span class="grow" />
      <div class="views" role="group" aria-label="View">
        <Button
          label="Grid"
          size="small"
          :severity="asked('view') ? 'secondary' : undefined"
          :aria-pressed="!asked('view')"
          @click="narrow({ view: undefined })"
        />
        <Button
          label="What is owed"
          size="small"
          :severity="asked('view') ? undefined : 'secondary'"
          :aria-pressed="!!asked('view')"
          @click="narrow({ view: 'owed', state: undefined })"
        />
      </div>
    </div>
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh" />
    <template v-if="grid">
      <p class="sum" role="status"
        ><template v-if="grid.sums.expected"
          ><b>{{ share(grid.sums.complete, grid.sums.expected) }} %</b> complete: {{ grid.sums.complete }} of {{ grid.sums.expected }} ·
          {{ grid.sums.begun }} begun · {{ grid.sums.missing }} missing<template v-if="grid.sums.late">
            · <span class="bad">{{ grid.sums.late }} late</span></template
          ><template v-if="grid.sums.completed_late"> · {{ grid.sums.completed_late }} completed late</template></template
        ><template v-else>Nothing is expected in these periods.</template></p
      >
      <div class="tools">
        <Button icon="pi pi-chevron-left" text size="small" aria-label="Earlier" title="Earlier" @click="move(-1)" />
        <span class="span">{{ sayPeriod(grid.kind, columns[0]!.period) }} – {{ sayPeriod(grid.kind, columns.at(-1)!.period) }}</span>
        <Button icon="pi pi-chevron-right" text size="small" aria-label="Later" title="Later" :disabled="isNow" @click="move(1)" />
        <Select :model-value="columns.length" :options="windows" aria-label="How many periods" size="small" @update:model-value="show"
          ><template #value="{ value }">{{ value }} {{ grid.kind }}s</template></Select
        >
        <span class="grow" />
        <InputText v-model="search" size="small" placeholder="Search places" aria-label="Search places" />
        <Select
          v-if="!asked('view')"
          :model-value="asked('state') || undefined"
          :options="states"
          option-label="label"
          option-value="value"
          placeholder="all places"
          show-clear
          size="small"
          aria-label="Only places"
          @update:model-value="narrow({ state: $event || undefined })"
        />
        <Select
          v-if="territories.length > 1 || asked('territory')"
          :model-value="asked('territory') || undefined"
          :options="territories"
          placeholder="every territory"
          show-clear
          size="small"
          aria-label="Territory"
          @update:model-value="narrow({ territory: $event || undefined })"
        />
      </div>
      <section v-if="asked('view')" class="sheet">
        <div class="owedhead">
          <h2>{{ owed.length ? `${plural(owed.length, 'record')} to be made or finished` : 'Nothing is owed' }}</h2>
          <span class="grow" />
          <Button v-if="owed.length" icon="pi pi-download" label="CSV" text size="small" @click="download" />
          <Button v-if="owed.length" icon="pi pi-print" text size="small" aria-label="Print" title="Print" @click="print" />
        </div>
        <DataTable v-if="owed.length" :value="owed" size="small" paginator :rows="100" :always-show-paginator="false">
          <Column header="Place"
            ><template #body="{ data }"
              ><RouterLink :to="{ name: 'record', params: { collection: grid.of, id: data.place.id } }">{{ data.place.label }}</RouterLink></template
            ></Column
          >
          <Column header="Period"
            ><template #body="{ data }">{{ sayPeriod(grid!.kind, data.column.period) }}</template></Column
          >
          <Column header="Due"
            ><template #body="{ data }"
              ><span :class="{ bad: data.cell.late }">{{ sayDay(data.column.due) }}{{ data.cell.late ? ', late' : '' }}</span></template
            ></Column
          >
          <Column header="State"
            ><template #body="{ data }"
              ><RouterLink v-if="data.cell.record" :to="{ name: 'record', params: { collection: name, id: data.cell.record } }"
                >begun by {{ data.cell.by }}</RouterLink
              ><template v-else>missing</template></template
            ></Column
          >
          <Column header="Territory"
            ><template #body="{ data }">{{ data.place.territories?.filter((key: string) => key !== '*').join(', ') }}</template></Column
          >
        </DataTable>
      </section>
      <section v-else class="sheet wide">
        <EmptyNote v-if="!places.length" title="No place fits">{{
          grid.total || asked('state') || asked('search') || asked('territory')
            ? 'Take another period, or ask for less.'
            : 'Places are the records of the collection that the coverage names.'
        }}</EmptyNote>
        <table v-else class="grid">
          <thead>
            <tr>
              <th scope="col">{{ find(grid.of)?.title ?? grid.of }}</th>
              <th
                v-for="c in columns"
                :key="c.period"
                scope="col"
                :title="`${sayPeriod(grid.kind, c.period)}, due ${sayDay(c.due)}: ${c.complete} of ${c.expected} complete`"
                >{{ shortPeriod(grid.kind, c.period)
                }}<span class="meter" aria-hidden="true"><i :style="{ width: `${share(c.complete, c.expected)}%` }" /></span
              ></th>
              <th scope="col" class="number">Complete</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="place in places" :key="place.id">
              <th scope="row"
                ><RouterLink :to="{ name: 'record', params: { collection: grid.of, id: place.id } }">{{ place.label || '(no label)' }}</RouterLink></th
              >
              <td v-for="(cell, n) in place.cells" :key="n">
                <button
                  v-if="cell"
                  type="button"
                  class="cell"
                  :class="[cell.state, { late: cell.late, extra: !cell.expected }]"
                  :title="`${place.label}, ${sayPeriod(grid.kind, columns[n]!.period)}: ${told(cell)}`"
                  :aria-label="`${place.label}, ${sayPeriod(grid.kind, columns[n]!.period)}: ${told(cell)}`"
                  :disabled="!cell.record && !mayEdit"
                  @click="open(place.id, columns[n]!.period, cell)"
                  >{{ sign(cell) }}</button
                >
                <span v-else class="none" title="not expected">·</span>
              </td>
              <td class="number">{{ place.complete }} / {{ place.expected }}</td>
            </tr>
          </tbody>
        </table>
        <p v-if="places.length" class="legend faint"
          ><span class="cell complete">✓</span> complete <span class="cell complete late">✓</span> complete, late <span class="cell begun">◐</span> begun
          <span class="cell begun late">◐</span> begun, late <span class="cell missing">○</span> missing <span class="cell missing late">!</span> missing, late
          <template v-if="mayEdit"> · An empty cell begins its record.</template></p
        >
        <p v-if="grid.total > places.length" class="legend"
          ><Button
            label="Earlier places"
            text
            size="small"
            :disabled="!asked('offset')"
            @click="narrow({ offset: String(Math.max(0, Number(asked('offset')) - page)) })" />
          {{ Number(asked('offset') || 0) + 1 }} to {{ Number(asked('offset') || 0) + places.length }} of {{ plural(grid.total, 'place') }}
          <Button
            label="More places"
            text
            size="small"
            :disabled="Number(asked('offset') || 0) + places.length >= grid.total"
            @click="narrow({ offset: String(Number(asked('offset') || 0) + page) })"
        /></p>
      </section>
      <div v-if="!asked('view')" class="below">
        <section class="sheet padded">
          <h2>Over time</h2>
          <StackedChart
            :labels="columns.map((c) => shortPeriod(grid!.kind, c.period))"
            :series="series"
            role="img"
            aria-label="Complete, begun and missing, by period"
          />
        </section>
        <section v-if="byTerritory.length || byWorker.length" class="sheet padded">
          <template
            v-for="part in [
              { title: 'By territory', rows: byTerritory, key: 'territory' },
              { title: 'By who holds the territory', rows: byWorker, key: 'worker' },
            ]"
            :key="part.key"
          >
            <template v-if="part.rows.length">
              <h2>{{ part.title }}</h2>
              <table class="sums">
                <thead>
                  <tr><td /><th>Complete</th><th>Begun</th><th>Missing</th><th>Late</th></tr>
                </thead>
                <tbody>
                  <tr v-for="one in part.rows" :key="one.key">
                    <th scope="row"
                      ><RouterLink :to="{ query: { ...route.query, [part.key]: asked(part.key) === one.key ? undefined : one.key } }">{{
                        one.key
                      }}</RouterLink></th
                    >
                    <td>{{ one.complete }} / {{ one.expected }}</td
                    ><td>{{ one.begun }}</td
                    ><td>{{ one.missing }}</td>
                    <td :class="{ bad: one.late }">{{ one.late }}</td>
                  </tr>
                </tbody>
              </table>
            </template>
          </template>
          <Button v-if="asked('worker')" :label="`Only what ${asked('worker')} covers: show all`" text size="small" @click="narrow({ worker: undefined })" />
        </section>
      </div>
    </template>
    <EmptyNote v-else-if="!loading && !problem" title="Nothing is expected of any place"
      >A definition says under coverage that there is one record for each place and period, and which are expected.</EmptyNote
    >
    <AddDialog
      v-if="collection && adding"
      v-model:visible="adding"
      :collection="collection"
      :preset="preset"
      :under="Object.values(preset ?? {}).join(' ')"
      @added="refresh()"
    />
  </div>
</template>

<style scoped>
.views,
.tools {
  display: flex;
  flex-wrap: wrap;
  gap: 0.4rem;
  align-items: center;
}
.tools {
  margin-bottom: 0.7rem;
}
.tools .grow,
.owedhead .grow {
  flex: 1;
}
.span {
  min-width: 12rem;
  text-align: center;
}
.sum {
  margin: 0 0 0.8rem;
}
.sum b {
  font-size: 1.3rem;
}
.wide {
  overflow-x: auto;
}
.grid,
.sums {
  border-collapse: collapse;
  width: 100%;
}
.grid th,
.grid td,
.sums th,
.sums td {
  padding: 0.25rem 0.45rem;
  border-bottom: 1px solid var(--line);
  font-weight: 400;
  text-align: center;
}
.grid thead th,
.sums thead th {
  font-weight: 600;
  font-size: 0.88rem;
  white-space: nowrap;
}
.grid th:first-child,
.sums th:first-child {
  text-align: left;
  position: sticky;
  left: 0;
  background: var(--sheet);
}
.grid th:first-child {
  padding-left: 0.9rem;
}
.sums td {
  text-align: right;
}
.sums {
  margin-bottom: 1rem;
}
td.number,
th.number {
  text-align: right;
  padding-right: 0.9rem;
  white-space: nowrap;
}
.meter {
  display: block;
  height: 4px;
  margin-top: 3px;
  border-radius: 2px;
  background: var(--line);
}
.meter i {
  display: block;
  height: 100%;
  border-radius: 2px;
  background: #009e73;
}
.cell {
  display: inline-grid;
  place-items: center;
  width: 2.1rem;
  height: 1.7rem;
  padding: 0;
  font: inherit;
  line-height: 1;
  border-radius: 4px;
  border: 1px solid var(--line);
  background: transparent;
  color: var(--faint);
}
button.cell:not(:disabled) {
  cursor: pointer;
}
button.cell:not(:disabled):hover {
  outline: 2px solid var(--accent);
}
.cell.complete {
  background: color-mix(in srgb, #009e73 26%, var(--sheet));
  border-color: #009e73;
  color: var(--ink);
}
.cell.begun {
  background: color-mix(in srgb, #d7a000 24%, var(--sheet));
  border-color: #d7a000;
  color: var(--ink);
}
.cell.missing.late {
  background: color-mix(in srgb, #c4622a 24%, var(--sheet));
  border-color: #c4622a;
  color: var(--ink);
  font-weight: 700;
}
.cell.begun.late,
.cell.complete.late {
  border-style: dashed;
  border-width: 2px;
}
.cell.extra {
  opacity: 0.6;
}
.none {
  color: var(--faint);
}
.legend {
  margin: 0;
  padding: 0.6rem 0.9rem;
  font-size: 0.88rem;
}
.legend .cell {
  width: 1.5rem;
  height: 1.2rem;
  margin: 0 0.2rem 0 0.5rem;
  vertical-align: middle;
}
.below {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
  gap: 1rem;
  margin-top: 1rem;
  align-items: start;
}
.owedhead {
  display: flex;
  align-items: center;
  padding: 0.6rem 0.9rem;
}
.owedhead h2 {
  margin: 0;
}
@media (max-width: 900px) {
  .below {
    grid-template-columns: minmax(0, 1fr);
  }
}
@media print {
  .views,
  .tools,
  .owedhead button {
    display: none;
  }
}
</style>
