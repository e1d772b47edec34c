<script setup lang="ts">
import { useEventListener } from '@vueuse/core'
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { useToast } from 'primevue/usetoast'
import { computed, nextTick, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, type Conflict, type RecordRow, type SettledOne } from '../api/client'
import { fieldsOf, useCollections } from '../collections'
import { ago, fullTime, plural, shown } from '../format'
import { useKey } from '../ids'
import { useHeads } from '../live'
import { usePage } from '../page'
import EmptyNote from '../parts/EmptyNote.vue'
import FieldInput from '../parts/FieldInput.vue'
import OfferNews from '../parts/OfferNews.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { useSession } from '../session'

const atOnce = 100
const route = useRoute()
const router = useRouter()
const toast = useToast()
const { mayEdit } = useSession()
const { collections, load, find } = useCollections()
const conflicts = ref<Conflict[]>()
const total = ref(0)
const more = ref(false)
const chosen = ref('')
const around = ref<RecordRow>()
const other = ref<Conflict>()
const value = ref<unknown>()
const wrong = ref('')
const working = ref(false)

/** What became of those that stand here: they stay where they are until somebody asks for the list anew. */
const done = ref(new Map<string, { text: string; undo?: boolean }>())
const changed = ref(new Map<string, Conflict>())
const newer = ref(0)

const text = (name: string) => String(route.query[name] ?? '')
const go = (query: Record<string, string | undefined>) => router.replace({ query: { ...route.query, ...query } })
const any = 'any' // stands for no narrowing in a list of choices
const ages = [
  { label: 'any age', value: any },
  { label: 'older than a day', value: '1' },
  { label: 'older than a week', value: '7' },
  { label: 'older than a month', value: '30' },
]
const asked = () => ({
  collection: text('collection') || undefined,
  field: text('field') || undefined,
  person: text('person') || undefined,
  before: text('age') ? new Date(Date.now() - Number(text('age')) * 86_400_000).toISOString() : undefined,
  limit: atOnce + 1,
})
const get = async () => (await ask(api.GET('/v1/conflicts', { params: { query: asked() } }))) ?? []
const keyOf = (c: Conflict) => `${c.collection} ${c.record} ${c.field}`

const { problem, refresh } = usePage(async (counts) => {
  if (!collections.value) await load()
  const [all, count] = await Promise.all([get(), ask(api.GET('/v1/conflicts/count'))])
  if (!counts()) return
  more.value = all.length > atOnce
  conflicts.value = all.slice(0, atOnce)
  total.value = count.open
  done.value = new Map()
  changed.value = new Map()
  newer.value = 0
  if (!conflicts.value.some((c) => keyOf(c) === chosen.value)) chosen.value = conflicts.value[0] ? keyOf(conflicts.value[0]) : ''
})
watch(
  () => route.query,
  () => refresh(),
)
/** Counts what one did oneself: what was asked before that is not what is so after it. */
let acts = 0
async function look() {
  const shownNow = conflicts.value
  if (!shownNow?.length) return refresh()
  const before = acts
  const [now, count] = await Promise.all([get().catch(() => undefined), ask(api.GET('/v1/conflicts/count')).catch(() => undefined)])
  if (!now || shownNow !== conflicts.value) return
  if (working.value || before !== acts) return // who acts looks again afterwards
  total.value = count?.open ?? total.value
  const latest = new Map(now.map((c) => [keyOf(c), c]))
  const known = new Set(shownNow.map(keyOf))
  for (const c of shownNow) {
    const anew = latest.get(keyOf(c))
    if (anew && anew.revision !== c.revision) {
      // Settling names the revision that one has seen. What is said there now is shown when somebody asks for it.
      if (JSON.stringify(anew.values) === JSON.stringify(c.values)) c.revision = anew.revision
      else changed.value.set(keyOf(c), anew)
    }
    if (!anew && now.length <= atOnce && !done.value.has(keyOf(c))) done.value.set(keyOf(c), { text: 'settled meanwhile' })
    if (anew && done.value.get(keyOf(c))?.text === 'settled meanwhile') done.value.delete(keyOf(c))
  }
  newer.value = now.slice(0, atOnce).filter((c) => !known.has(keyOf(c))).length
}
useHeads(look)
async function acted() {
  acts++
  working.value = false
  await look()
}

function showAnew(c: Conflict) {
  Object.assign(c, changed.value.get(keyOf(c)))
  changed.value.delete(keyOf(c))
}
const closed = (c: Conflict) => working.value || done.value.has(keyOf(c)) || changed.value.has(keyOf(c))

const current = computed(() => conflicts.value?.find((c) => keyOf(c) === chosen.value))
watch(
  () => current.value && [current.value.collection, current.value.record, current.value.revision].join(' '),
  async () => {
    const c = current.value
    around.value = undefined
    if (!c) return
    const params = { path: { collection: c.collection, id: c.record } }
    const record = await ask(api.GET('/v1/records/{collection}/{id}', { params })).catch(() => undefined)
    if (current.value?.record === c.record) around.value = record
  },
)

const fieldOf = (c: Conflict) => find(c.collection)?.fields?.find((f) => f.name === c.field)
const removal = 'record-removal'
const titleOf = (c: Conflict) => {
  if (c.field === removal) return 'The removal'
  const [name, ...part] = c.field.split('/')
  const title = find(c.collection)?.fields?.find((f) => f.name === name)?.title ?? name
  return [title, ...part].join(': ')
}
const valueOf = (c: Conflict, to: unknown) => {
  if (c.field === removal) return to ? 'remove it' : 'it stays'
  return to === undefined || to === null ? '(no value)' : shown(fieldOf(c), to)
}
const context = computed(() => {
  const c = current.value
  const fields = around.value ? fieldsOf(around.value) : {}
  return (find(c?.collection ?? '')?.fields ?? [])
    .filter((f) => fields[f.name] !== undefined && f.name !== c?.field.split('/')[0])
    .map((f) => ({ title: f.title, value: shown(f, fields[f.name]) }))
})
const fieldChoices = computed(() => {
  const d = find(text('collection'))
  const fields = (d?.fields ?? []).map((f) => ({ label: f.title, value: f.name }))
  return [{ label: 'any field', value: any }, ...fields, { label: 'the removal', value: removal }]
})
const collectionChoices = computed(() => [{ title: 'all collections', collection: any }, ...(collections.value ?? [])])

// Many at once, by a rule: what would be done is shown first.
const rules = [
  { label: 'the value edited last', value: 'newest' },
  { label: 'what central has', value: 'first' },
  { label: 'the smallest', value: 'min' },
  { label: 'the largest', value: 'max' },
]
const rule = ref<'newest' | 'first' | 'min' | 'max'>('newest')
const plan = ref<SettledOne[]>()
async function byRule(preview: boolean) {
  working.value = true
  try {
    const { collection, field, before } = asked()
    const all =
      (await ask(api.POST('/v1/conflicts/settlements-by-rule', { body: { rule: rule.value, preview, collection, field, opened_before: before } }))) ?? []
    if (preview) {
      plan.value = all
    } else {
      const left = all.filter((one) => one.problem).length
      toast.add({
        severity: left ? 'warn' : 'success',
        summary: 'Settled',
        detail: left ? `${all.length - left} settled, ${left} left open` : plural(all.length, 'conflict'),
        life: 5000,
      })
      plan.value = undefined
    }
  } catch (error) {
    toast.add({ severity: 'error', summary: 'Not settled', detail: (error as Error).message, life: 9000 })
  }
  working.value = false
  if (!preview) await refresh()
}

const key = useKey()
async function settle(c: Conflict, to: unknown) {
  if (closed(c)) return
  working.value = true
  try {
    const body = { collection: c.collection, record: c.record, field: c.field, base: c.revision, value: to ?? null }
    await key.send(body, (under) => ask(api.POST('/v1/conflicts/settlements', { params: { header: { 'Idempotency-Key': under } }, body })))
    done.value.set(keyOf(c), { text: `settled: ${valueOf(c, to)}`, undo: true })
    other.value = undefined
    move(1, true)
  } catch (error) {
    toast.add({ severity: 'error', summary: 'Not settled', detail: (error as Error).message, life: 9000 })
  }
  await acted()
}
async function undo(c: Conflict) {
  working.value = true
  try {
    await ask(api.POST('/v1/conflicts/reopenings', { body: { collection: c.collection, record: c.record, field: c.field } }))
    done.value.delete(keyOf(c))
    const now = (await ask(api.GET('/v1/conflicts', { params: { query: { collection: c.collection, record: c.record, field: c.field } } })))?.[0]
    if (now) Object.assign(c, now)
    changed.value.delete(keyOf(c))
    chosen.value = keyOf(c)
  } catch (error) {
    toast.add({ severity: 'error', summary: 'Not opened', detail: (error as Error).message, life: 9000 })
  }
  await acted()
}
function another(c: Conflict) {
  value.value = c.values?.[0]?.value
  wrong.value = ''
  other.value = c
}

/** Goes to the next one, over those that are settled if asked. */
function move(step: 1 | -1, over = false) {
  const all = (conflicts.value ?? []).filter((c) => !over || keyOf(c) === chosen.value || !done.value.has(keyOf(c)))
  const at = all.findIndex((c) => keyOf(c) === chosen.value)
  const next = all[at + step] ?? (over ? all.find((_, n) => n !== at) : undefined) // one that was passed over
  if (!next) return
  chosen.value = keyOf(next)
  nextTick(() => document.querySelector('.queue [aria-current]')?.scrollIntoView({ block: 'nearest' }))
}
function keys(event: KeyboardEvent) {
  const target = event.target as HTMLElement
  if (event.ctrlKey || event.metaKey || event.altKey || other.value || plan.value || target.closest('input, textarea, .p-select, .p-dialog')) return
  const c = current.value
  if (event.key === 'j' || event.key === 'ArrowDown') move(1)
  else if (event.key === 'k' || event.key === 'ArrowUp') move(-1)
  else if (c && mayEdit.value && /^[1-9]$/.test(event.key) && c.values?.[Number(event.key) - 1]) settle(c, c.values[Number(event.key) - 1]!.value)
  else if (c && mayEdit.value && event.key === 'a' && fieldOf(c)) another(c)
  else if (event.key === 'u') {
    const last = [...done.value].filter(([, d]) => d.undo).at(-1)
    const it = conflicts.value?.find((one) => keyOf(one) === last?.[0])
    if (it) undo(it)
  } else return
  event.preventDefault()
}
useEventListener(window, 'keydown', keys)
</script>

<template>
  <div class="page">
    <div class="head"
      ><h1>Conflicts</h1
      ><span class="faint" role="status">{{
        !conflicts ? '' : total ? `${plural(total, 'field')} ${total === 1 ? 'waits' : 'wait'} for a person` : 'Nothing waits for a person'
      }}</span></div
    >
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh" />
    <form v-if="conflicts && (conflicts.length || Object.keys(route.query).length)" class="filters" @submit.prevent="byRule(true)">
      <label for="collection">In</label>
      <Select
        :model-value="text('collection') || any"
        input-id="collection"
        aria-label="Collection"
        :options="collectionChoices"
        option-label="title"
        option-value="collection"
        size="small"
        @update:model-value="go({ collection: $event === any ? undefined : $event, field: undefined })"
      />
      <template v-if="text('collection')">
        <label for="field">over</label>
        <Select
          :model-value="text('field') || any"
          input-id="field"
          aria-label="Field"
          :options="fieldChoices"
          option-label="label"
          option-value="value"
          size="small"
          @update:model-value="go({ field: $event === any ? undefined : $event })"
        />
      </template>
      <label for="age">of</label>
      <Select
        :model-value="text('age') || any"
        input-id="age"
        aria-label="Age"
        :options="ages"
        option-label="label"
        option-value="value"
        size="small"
        @update:model-value="go({ age: $event === any ? undefined : $event })"
      />
      <label for="person">with</label>
      <InputText
        id="person"
        :model-value="text('person')"
        size="small"
        placeholder="anybody"
        class="short"
        @change="go({ person: ($event.target as HTMLInputElement).value.trim() || undefined })"
      />
      <template v-if="mayEdit && conflicts.length > 1 && !text('person')">
        <span class="grow" />
        <label for="by-rule">Settle all, taking</label>
        <Select v-model="rule" input-id="by-rule" aria-label="Rule" :options="rules" option-label="label" option-value="value" size="small" />
        <Button type="submit" label="Show what that does" size="small" severity="secondary" :loading="working && !!plan" />
      </template>
    </form>
    <Dialog :visible="!!plan" modal header="Settle all by a rule" :style="{ width: 'min(44rem, 94vw)' }" @update:visible="plan = undefined">
      <ul class="plan" tabindex="0" aria-label="What would be settled, and how">
        <li v-for="one in plan" :key="`${one.conflict.record} ${one.conflict.field}`">
          {{ titleOf(one.conflict) }} of <b>{{ one.conflict.label }}</b>: <template v-if="one.take">{{ valueOf(one.conflict, one.value) }}</template><span
            v-else
            class="warn"
            >left open: {{ one.problem }}</span
          >
        </li>
      </ul>
      <div class="actions"
        ><Button label="Settle" size="small" :loading="working" @click="byRule(false)" /><Button
          label="Cancel"
          severity="secondary"
          size="small"
          @click="plan = undefined"
      /></div>
    </Dialog>
    <EmptyNote v-if="conflicts && !conflicts.length" :title="Object.keys(route.query).length ? 'No conflict fits' : 'Nothing waits for a person'"
      >Where a definition says <code>ask</code>, two edits that meet are held here until somebody settles them.</EmptyNote
    >
    <div v-else-if="conflicts" class="desk">
      <ol class="queue sheet" aria-label="Conflicts, the oldest first">
        <li v-for="c in conflicts" :key="keyOf(c)">
          <button type="button" :aria-current="keyOf(c) === chosen || undefined" :class="{ done: done.has(keyOf(c)) }" @click="chosen = keyOf(c)">
            <b>{{ c.label }}</b> <span class="faint">{{ titleOf(c) }}</span>
            <span class="faint since" :title="fullTime(c.opened_at)">{{ done.get(keyOf(c))?.text ?? ago(c.opened_at) }}</span>
          </button>
        </li>
        <li v-if="more" class="faint rest">Only the {{ atOnce }} oldest are listed; the others follow as these are settled.</li>
      </ol>
      <section v-if="current" class="sheet padded conflict" aria-live="polite">
        <div class="top">
          <h2
            >{{ titleOf(current) }} of
            <RouterLink :to="{ name: 'record', params: { collection: current.collection, id: current.record } }">{{ current.label }}</RouterLink></h2
          >
          <span class="faint" :title="fullTime(current.opened_at)">open since {{ ago(current.opened_at) }}</span>
        </div>
        <p v-if="current.base !== undefined && current.field !== removal" class="faint">It was {{ shown(fieldOf(current), current.base) }}.</p>
        <div class="values">
          <div v-for="(v, n) in current.values" :key="v.revision" class="value">
            <div class="what">{{ valueOf(current, v.value) }}</div>
            <div
              >{{ v.author }} <span class="faint">{{ v.device ? `on ${v.device}` : 'at central' }}</span></div
            >
            <div class="faint"
              >{{ fullTime(v.edited_at) }}<template v-if="(v.uncertainty_ms ?? 0) > 1000"> ± {{ Math.round((v.uncertainty_ms ?? 0) / 1000) }} s</template></div
            >
            <div class="faint">{{ n === 0 ? 'came first, and stands meanwhile' : 'is held' }}</div>
            <Button v-if="mayEdit" size="small" :severity="n === 0 ? 'secondary' : undefined" :disabled="closed(current)" @click="settle(current, v.value)"
              >{{ n === 0 ? 'Keep this' : 'Take this' }} <kbd v-if="n < 9">{{ n + 1 }}</kbd></Button
            >
          </div>
        </div>
        <div class="actions">
          <Button v-if="mayEdit && fieldOf(current)" label="Another value…" size="small" text :disabled="closed(current)" @click="another(current)" />
          <span v-if="changed.has(keyOf(current))" class="warn"
            >Somebody has said something else meanwhile. <Button label="Show it" size="small" text @click="showAnew(current)"
          /></span>
          <span v-if="done.has(keyOf(current))" class="good"
            >{{ done.get(keyOf(current))!.text }}
            <Button v-if="done.get(keyOf(current))!.undo" label="Undo" icon="pi pi-undo" size="small" text :loading="working" @click="undo(current)"
          /></span>
        </div>
        <dl v-if="context.length">
          <template v-for="f in context" :key="f.title"
            ><dt>{{ f.title }}</dt
            ><dd>{{ f.value }}</dd></template
          >
        </dl>
        <p class="faint keys"
          >By keyboard: <kbd>j</kbd> <kbd>k</kbd> next and last, <kbd>1</kbd> to <kbd>9</kbd> take a value, <kbd>a</kbd> another, <kbd>u</kbd> undo.</p
        >
      </section>
    </div>
    <OfferNews :text="newer ? `${newer} more: show` : ''" @take="refresh" />
    <Dialog
      :visible="!!other"
      modal
      :header="other ? `${titleOf(other)} of ${other.label}` : ''"
      :style="{ width: 'min(28rem, 94vw)' }"
      @update:visible="other = undefined"
    >
      <form v-if="other && fieldOf(other)" class="form" @submit.prevent="wrong || settle(other, value)">
        <label :for="other.field"
          >{{ titleOf(other) }}<FieldInput v-model="value" :field="fieldOf(other)!" @wrong="wrong = $event" /><span v-if="wrong" class="wrong" role="alert">{{
            wrong
          }}</span></label
        >
        <div class="actions"
          ><Button type="submit" label="Settle" size="small" /><Button label="Cancel" severity="secondary" size="small" @click="other = undefined"
        /></div>
      </form>
    </Dialog>
  </div>
</template>

<style scoped>
.desk {
  display: grid;
  grid-template-columns: minmax(14rem, 2fr) minmax(0, 5fr);
  gap: 1rem;
  align-items: start;
}
.queue {
  list-style: none;
  margin: 0;
  padding: 0;
  max-height: calc(100vh - 12rem);
  overflow-y: auto;
}
.queue button {
  display: block;
  width: 100%;
  padding: 0.5rem 0.8rem;
  border: 0;
  border-left: 4px solid transparent;
  border-bottom: 1px solid var(--line);
  background: none;
  color: inherit;
  font: inherit;
  text-align: left;
  cursor: pointer;
  overflow-wrap: anywhere;
}
.queue button[aria-current] {
  border-left-color: var(--accent);
  background: var(--ground);
}
.queue button.done b {
  font-weight: 400;
  text-decoration: line-through;
}
.since {
  display: block;
  font-size: 0.86rem;
}
.rest {
  padding: 0.6rem 0.8rem;
}
.short {
  width: 8rem;
}
.filters .grow {
  flex: 1;
}
.plan {
  margin: 0 0 1rem;
  padding-left: 1.2rem;
  max-height: 50vh;
  overflow-y: auto;
}
.top {
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
  gap: 0.3rem 1rem;
}
.top h2 {
  font-size: 1.05rem;
  color: var(--ink);
  margin: 0;
}
.conflict p {
  margin: 0.3rem 0 0;
}
.values {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(14rem, 1fr));
  gap: 0.8rem;
  margin: 0.8rem 0 0.4rem;
}
.value {
  border: 1px solid var(--line);
  border-radius: 4px;
  padding: 0.7rem 0.8rem;
  display: grid;
  gap: 0.15rem;
  justify-items: start;
}
.value .p-button {
  margin-top: 0.5rem;
}
.what {
  font-size: 1.1rem;
  font-weight: 600;
  overflow-wrap: anywhere;
}
.actions {
  min-height: 2.2rem;
  align-items: center;
}
dl {
  display: grid;
  grid-template-columns: minmax(6.5rem, max-content) 1fr;
  gap: 0.25rem 1rem;
  margin: 0.8rem 0 0;
  padding-top: 0.7rem;
  border-top: 1px solid var(--line);
}
dt {
  color: var(--faint);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
.conflict .keys {
  margin-top: 1rem;
  font-size: 0.88rem;
}
kbd {
  padding: 0 0.35rem;
  border: 1px solid var(--line);
  border-radius: 3px;
  font: inherit;
}
@media (max-width: 720px) {
  .desk {
    grid-template-columns: minmax(0, 1fr);
  }
  .queue {
    max-height: 14rem;
  }
  .conflict .keys {
    display: none;
  }
}
</style>
