<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import ProgressBar from 'primevue/progressbar'
import Select from 'primevue/select'
import { useConfirm } from 'primevue/useconfirm'
import { computed, defineAsyncComponent, ref } from 'vue'
import { onBeforeRouteLeave } from 'vue-router'
import { readJSON, writeJSON } from '../../../generate/exact'
import { api, ask, Problem, type Definition, type ReadTable } from '../api/client'
import { useCollections } from '../collections'
import { plural } from '../format'
import { newID } from '../ids'
import EmptyNote from '../parts/EmptyNote.vue'

const DefinitionEditor = defineAsyncComponent(() => import('../parts/DefinitionEditor.vue'))

const confirm = useConfirm()
const { load } = useCollections()
const file = ref<File>()
const collection = ref('')
const text = ref('') // of the definition, where it is still to be defined
const table = ref<ReadTable>()
const reading = ref(false)
const problem = ref('')
const over = ref(false)
const picker = ref<HTMLInputElement>()

const told = 'told'
const decimal = ref(told)
const dates = ref(told)
const decimals = [
  { label: 'decimals as the file shows', value: told },
  { label: 'decimals: point', value: 'point' },
  { label: 'decimals: comma', value: 'comma' },
]
const orders = [
  { label: 'dates as the file shows', value: told },
  { label: 'dates: dmy', value: 'dmy' },
  { label: 'dates: mdy', value: 'mdy' },
]

type Outcome = { outcome: string; reasons?: { field?: string; message: string }[] | null }
const counts = ref<Record<string, number>>()
const done = ref(0)
const loading = ref(false)
const finished = ref(false)
const refused = ref<{ row: number; why: string }[]>([])
const stopped = ref(false)

async function choose(chosen: File | undefined) {
  if (!chosen) return
  file.value = chosen
  collection.value = ''
  text.value = ''
  await read()
}
/** Lets central read the file, with what was corrected here. */
async function read() {
  if (!file.value) return
  reading.value = true
  problem.value = ''
  counts.value = undefined
  finished.value = false
  refused.value = []
  const form = new FormData()
  form.append('file', file.value)
  if (collection.value) form.append('collection', collection.value)
  if (text.value) form.append('definition', text.value)
  if (decimal.value !== told) form.append('decimal', decimal.value)
  if (dates.value !== told) form.append('dates', dates.value)
  try {
    const answer = await fetch('/v1/tables', { method: 'POST', body: form })
    const said = readJSON<ReadTable & { detail?: string }>(await answer.text())
    if (!answer.ok) throw new Problem(said.detail ?? `Central answered ${answer.status}.`, answer.status)
    table.value = said
    collection.value = said.collection
    text.value = said.fresh ? said.text : ''
  } catch (error) {
    problem.value = error instanceof Problem ? error.message : 'Central cannot be reached, or has answered something that cannot be read.'
  }
  reading.value = false
}

const rows = computed(() => (table.value?.rows ?? []) as Record<string, unknown>[])
const names = computed(() => (table.value?.columns ?? []).map((c) => c.field))
const cell = (value: unknown) => (value === null || value === undefined ? '' : typeof value === 'string' ? value : writeJSON([value]).slice(1, -1))

const atOnce = 500
async function put(part: Record<string, unknown>[], preview: boolean): Promise<Outcome[]> {
  const key = rows.value.some((row) => 'homing_id' in row) ? '' : (table.value?.definition?.key ?? '')
  const body = { rows: part as Record<string, never>[], key: key || undefined, preview }
  return ((await ask(api.PUT('/v1/rows/{collection}', { params: { path: { collection: table.value!.collection } }, body }))) ?? []) as Outcome[]
}
/** Says how many records would be added and changed, before any is. */
async function foresee() {
  loading.value = true
  problem.value = ''
  const found: Record<string, number> = {}
  try {
    if (table.value?.fresh) found.added = rows.value.length
    else
      for (let at = 0; at < rows.value.length; at += atOnce) {
        for (const one of await put(rows.value.slice(at, at + atOnce), true)) found[one.outcome] = (found[one.outcome] ?? 0) + 1
        done.value = at
      }
    counts.value = found
  } catch (error) {
    problem.value = (error as Error).message
  }
  done.value = 0
  loading.value = false
}
async function bringIn() {
  if (!table.value) return
  loading.value = true
  problem.value = ''
  stopped.value = false
  const found: Record<string, number> = {}
  try {
    if (table.value.fresh) {
      await ask(api.PUT('/v1/definitions', { body: { definitions: [table.value.definition as Definition] } }))
      table.value.fresh = false
    }
    // Rows that nothing tells apart get their ids here, so that those whose answer was lost are not added twice.
    if (!table.value.definition?.key && !rows.value.some((row) => 'homing_id' in row)) for (const row of rows.value) row.homing_id = newID()
    for (let at = done.value; at < rows.value.length && !stopped.value; at += atOnce) {
      const part = rows.value.slice(at, at + atOnce)
      const outcomes = await put(part, false)
      outcomes.forEach((one, n) => {
        found[one.outcome] = (found[one.outcome] ?? 0) + 1
        if (one.outcome === 'refused')
          refused.value.push({ row: at + n + 1, why: (one.reasons ?? []).map((r) => `${r.field ? `${r.field}: ` : ''}${r.message}`).join('; ') })
      })
      done.value = at + part.length
    }
    counts.value = found
    finished.value = !stopped.value
    await load()
  } catch (error) {
    problem.value = `${(error as Error).message} ${done.value} of ${rows.value.length} rows are in; bring in again goes on from there.`
  }
  loading.value = false
}
const counted = computed(() =>
  Object.entries(counts.value ?? {})
    .map(([outcome, n]) => `${n.toLocaleString()} ${outcome === 'there' ? 'there already, word for word' : outcome}`)
    .join(', '),
)
// A cell that begins like a formula is none in a spreadsheet when it begins with an apostrophe.
const quoted = (value: string) => `"${(/^[=+\-@\t\r]/.test(value) && !/^-?[\d.,]+$/.test(value) ? `'${value}` : value).replaceAll('"', '""')}"`
/** The wrong rows as a file, with their reasons, to be mended and brought in again. */
function wrongFile() {
  const all = table.value?.wrong ?? []
  const headers = [...new Set(all.flatMap((one) => Object.keys(one.cells ?? {})))]
  const byRow = new Map(all.map((one) => [one.row, one]))
  const lines = [...byRow.values()].map((one) =>
    [
      ...headers.map((h) => quoted(String(one.cells?.[h] ?? ''))),
      quoted(
        all
          .filter((other) => other.row === one.row)
          .map((other) => `${other.field ?? ''}: ${other.reason}`)
          .join('; '),
      ),
    ].join(','),
  )
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([[[...headers, 'wrong'].map(quoted).join(','), ...lines].join('\r\n')], { type: 'text/csv' }))
  link.download = `${table.value?.collection}-wrong.csv`
  link.click()
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000)
}
const numberOf = (outcome: string) => counts.value?.[outcome] ?? 0

onBeforeRouteLeave(() => {
  if (!loading.value) return true
  return new Promise((resolve) =>
    confirm.require({
      header: 'Rows are being brought in',
      message: 'Those that are in stay; the others are not brought in when you leave.',
      acceptLabel: 'Leave',
      rejectLabel: 'Stay',
      rejectProps: { severity: 'secondary' },
      accept: () => {
        stopped.value = true
        resolve(true)
      },
      reject: () => resolve(false),
      onHide: () => resolve(false),
    }),
  )
})
</script>

<template>
  <div class="page">
    <div class="head"
      ><h1>Bring in a table</h1><span class="faint">CSV, Excel workbook, NDJSON or GeoJSON; at most 50,000 rows, more with homing import</span></div
    >
    <label
      class="drop sheet"
      :class="{ over }"
      for="table-file"
      @dragover.prevent="over = true"
      @dragleave="over = false"
      @drop.prevent="((over = false), choose($event.dataTransfer?.files[0]))"
    >
      <input id="table-file" ref="picker" type="file" class="hidden" accept=".csv,.tsv,.xlsx,.ndjson,.jsonl,.geojson" @change="choose(picker?.files?.[0])" />
      <i class="pi pi-upload" aria-hidden="true" />
      <span>{{ file ? file.name : 'Drop a file here, or press to choose one' }}</span>
      <span v-if="reading" class="faint" role="status">reading…</span>
    </label>
    <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
    <template v-if="table">
      <form class="filters" @submit.prevent="read">
        <label for="into">Into the collection</label>
        <InputText id="into" v-model="collection" size="small" />
        <Select v-model="decimal" :options="decimals" option-label="label" option-value="value" aria-label="What stands before decimals" size="small" />
        <Select v-model="dates" :options="orders" option-label="label" option-value="value" aria-label="The order of dates" size="small" />
        <Button type="submit" label="Read it again" size="small" severity="secondary" :loading="reading" :disabled="loading" />
        <span v-if="table.fresh" class="warn">It is not defined yet: this is a proposal.</span>
      </form>
      <div class="columns">
        <section v-if="table.fresh">
          <DefinitionEditor v-model="text" />
          <p class="faint">{{ table.about }} Change what you like, and read it again.</p>
        </section>
        <section class="sheet padded">
          <h2>{{ plural(table.total, 'row') }} in the file</h2>
          <ul>
            <li v-for="note in table.notes" :key="note">{{ note }}</li>
            <li v-for="c in table.columns" :key="c.header"
              ><span class="faint">{{ c.header }}</span> goes into <b>{{ c.field }}</b></li
            >
          </ul>
          <template v-if="table.wrong_rows">
            <p class="bad">{{ plural(table.wrong_rows, 'row') }} wrong, and left out:</p>
            <ul class="scrolls" tabindex="0" aria-label="What is wrong">
              <li v-for="(w, n) in table.wrong" :key="n">row {{ w.row }}{{ w.field ? `, ${w.field}` : '' }}: {{ w.reason }}</li>
            </ul>
            <Button label="The wrong rows as CSV" icon="pi pi-download" size="small" text @click="wrongFile" />
          </template>
          <div class="actions">
            <Button v-if="!counts && rows.length" label="What would it change?" size="small" severity="secondary" :loading="loading" @click="foresee" />
            <template v-if="counts && !finished">
              <p role="status">{{ done ? 'So far' : 'It would be' }}: {{ counted }}.</p>
              <p v-if="numberOf('there')" class="warn">Without a key, rows that are there already are added once more.</p>
            </template>
            <Button
              v-if="counts && !finished"
              :label="`Bring in ${plural(rows.length - done, 'row')}`"
              icon="pi pi-check"
              size="small"
              :loading="loading"
              @click="bringIn"
            />
          </div>
          <ProgressBar v-if="loading && done" :value="Math.round((100 * done) / rows.length)" aria-label="Rows that are in" />
          <template v-if="finished">
            <p class="good" role="status">Brought in: {{ counted }}.</p>
            <ul v-if="refused.length" class="scrolls bad" tabindex="0" aria-label="What central refused">
              <li v-for="r in refused" :key="r.row">row {{ r.row }}: {{ r.why }}</li>
            </ul>
            <RouterLink :to="{ name: 'records', params: { collection: table.collection } }">Look at them</RouterLink>
          </template>
        </section>
      </div>
      <section class="sheet scrolls first" tabindex="0" aria-label="The first rows">
        <EmptyNote v-if="!rows.length" title="No row can be brought in">Each is wrong in some way: see above.</EmptyNote>
        <table v-else class="plain">
          <thead>
            <tr
              ><th v-for="name in names" :key="name">{{ name }}</th></tr
            >
          </thead>
          <tbody>
            <tr v-for="(row, n) in rows.slice(0, 10)" :key="n"
              ><td v-for="name in names" :key="name">{{ cell(row[name]) }}</td></tr
            >
          </tbody>
        </table>
      </section>
    </template>
  </div>
</template>

<style scoped>
.drop {
  display: flex;
  flex-wrap: wrap;
  gap: 0.8rem;
  align-items: center;
  justify-content: center;
  padding: 1.6rem;
  margin-bottom: 1rem;
  border-style: dashed;
  cursor: pointer;
}
.drop:hover,
.drop.over,
.drop:focus-within {
  border-color: var(--accent);
}
.drop:focus-within {
  outline: 2px solid var(--accent);
}
.columns {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(22rem, 100%), 1fr));
  gap: 1rem;
  align-items: start;
}
ul {
  margin: 0.3rem 0 0.6rem;
  padding-left: 1.1rem;
  overflow-wrap: anywhere;
}
.scrolls {
  max-height: 14rem;
  overflow: auto;
}
.first {
  margin-top: 1rem;
  max-height: none;
}
.actions p {
  margin: 0.3rem 0;
  width: 100%;
}
</style>
