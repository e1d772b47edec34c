<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { useConfirm } from 'primevue/useconfirm'
import { useToast } from 'primevue/usetoast'
import { computed, ref, shallowRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, Problem, type Fields, type HistoryEntry, type RecordRow } from '../api/client'
import { childrenOf, fieldsOf, forgetLabels, given, labelOf, referenced, settable, useCollections } from '../collections'
import { drafted, openDraft, placeOf, type OpenDraft } from '../drafts'
import { fullTime, shown } from '../format'
import { since, useKey } from '../ids'
import { useHeads } from '../live'
import { usePage } from '../page'
import AttentionMark from '../parts/AttentionMark.vue'
import ChildList from '../parts/ChildList.vue'
import EmptyNote from '../parts/EmptyNote.vue'
import HistoryTrail from '../parts/HistoryTrail.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import RecordForm from '../parts/RecordForm.vue'
import { setTitle } from '../router'
import { useSession } from '../session'

const route = useRoute()
const toast = useToast()
const confirm = useConfirm()
const { session, mayEdit } = useSession()
const kept = shallowRef<OpenDraft>()
const key = useKey(() => kept.value)
const removal = useKey()
const { collections, load, find } = useCollections()

const name = computed(() => String(route.params.collection))
const id = computed(() => String(route.params.id))
const path = computed(() => ({ collection: name.value, id: id.value }))
const collection = computed(() => find(name.value))
const children = computed(() => childrenOf(name.value))
const record = ref<RecordRow>()
const history = ref<HistoryEntry[]>([])
const disputed = ref<string[]>([])
const editing = ref(false)
const base = ref(0)

const router = useRouter()
/** A moment in the past at which the record is looked at; it stands in the address. */
const asOf = computed(() => String(route.query.as_of ?? ''))
const past = ref<RecordRow>()

const { problem, loading, refresh } = usePage(async (counts) => {
  if (!collections.value) await load()
  const [r, h, open] = await Promise.all([
    ask(api.GET('/v1/records/{collection}/{id}', { params: { path: path.value } })),
    ask(api.GET('/v1/history/{collection}/{id}', { params: { path: path.value } })),
    ask(api.GET('/v1/conflicts', { params: { query: { collection: name.value, record: id.value } } })),
  ])
  const then = asOf.value
    ? await ask(api.GET('/v1/records/{collection}/{id}', { params: { path: path.value, query: { as_of: new Date(asOf.value).toISOString() } } })).catch(
        () => undefined,
      )
    : undefined
  if (!counts()) return
  past.value = then
  record.value = r
  history.value = h ?? []
  disputed.value = (open ?? []).map((c) => c.field.split('/')[0]!)
})
watch(asOf, () => refresh())
watch(
  () => record.value && collection.value && labelOf(collection.value, fieldsOf(record.value)),
  (label) => label && setTitle(label),
)
// One record leads to another on this same page.
watch(path, () => {
  if (!route.params.id) return
  editing.value = false
  record.value = undefined
  loading.value = true
  refresh()
})
useHeads((names) => {
  names.forEach(forgetLabels)
  // Totals change with the children, whose collection is another.
  if (names.length === 0 || names.includes(name.value) || children.value.length) refresh()
})

const fields = computed(() => (record.value ? fieldsOf(record.value) : {}))
/** What is shown: as it is, or as it was. */
const shownFields = computed(() => (asOf.value ? (past.value ? fieldsOf(past.value) : {}) : fields.value))
/** The values that somebody set: the others come by themselves. */
const own = computed(() =>
  Object.fromEntries(
    (collection.value?.fields ?? []).filter((f) => settable(f) && fields.value[f.name] !== undefined).map((f) => [f.name, fields.value[f.name]]),
  ),
)
const parent = computed(() => {
  const above = collection.value?.parent
  const up = above && fields.value[above.field]
  return above && typeof up === 'string' ? { collection: above.collection, id: up } : undefined
})
const moved = computed(() => editing.value && record.value !== undefined && record.value.revision > base.value)

/** What came while the form was open, and whether all of it is by whoever types here. */
const news = computed(() => history.value.filter((h) => h.revision > base.value))
const mine = computed(() => news.value.length > 0 && news.value.every((h) => h.author === session.value?.worker && !h.device))
const lost = ref(false) // the answer to a save
let opened: { fields: Fields; revision: number } = { fields: {}, revision: 0 } // what the record was when the form opened

function edit() {
  opened = { fields: own.value, revision: record.value?.revision ?? 0 }
  kept.value = openDraft(placeOf(name.value, id.value), { base: opened.revision })
  base.value = kept.value.first?.base || opened.revision
  lost.value = key.waits()
  editing.value = true
}
/** What was typed earlier is gone: the form is about what it shows now. */
function thrown() {
  base.value = opened.revision
  lost.value = false
}

type Edit = {
  base: number
  fields: Fields
}
const send = (body: Edit) =>
  key.send(body, (under) => ask(api.PATCH('/v1/records/{collection}/{id}', { params: { path: path.value, header: { 'Idempotency-Key': under } }, body })))

/** What went before, and may not have arrived, goes first; then what differs from it. */
async function saveAfterWhatWasLost(changed: Fields) {
  const body = { base: base.value, fields: changed }
  const earlier = key.before<Edit>(body)
  if (!earlier) return send(body)
  const answer = await send(earlier)
  const arrived = answer.revision ?? base.value
  const now = { ...changed }
  // A field that was set back to what it was when the form opened is not among those that changed. Where the save had
  // arrived before that, the form shows what came of it.
  for (const field of Object.keys(earlier.fields))
    if (!(field in now)) now[field] = opened.revision < arrived ? (opened.fields[field] ?? null) : earlier.fields[field]
  const rest = since(earlier.fields, now)
  if (Object.keys(rest).length === 0) return answer
  base.value = Math.max(arrived, opened.revision)
  return send({ base: base.value, fields: rest })
}

async function save(changed: Fields) {
  const answer = await saveAfterWhatWasLost(changed).finally(() => (lost.value = key.waits()))
  editing.value = false
  await refresh()
  // What one has saved oneself meanwhile, in another tab or under an answer that was lost, is nobody else's.
  const others = history.value.some((h) => h.revision > base.value && h.revision < (answer.revision ?? 0) && (h.author !== session.value?.worker || h.device))
  if (answer.answer === 'held')
    toast.add({
      severity: 'warn',
      summary: 'Held for a person',
      detail: 'Somebody else had changed a field that you changed, too. Theirs stands until it is settled under Conflicts; the rest is saved.',
      life: 12000,
    })
  else if (answer.answer === 'merged' && others)
    toast.add({ severity: 'warn', summary: 'Saved and merged', detail: 'Somebody else had edited this record; the history says what came out.', life: 9000 })
  else toast.add({ severity: 'success', summary: 'Saved', detail: `Revision ${answer.revision}`, life: 3000 })
}

async function bringBack() {
  try {
    await ask(api.POST('/v1/records/{collection}', { params: { path: { collection: name.value } }, body: { id: id.value, fields: own.value } }))
    toast.add({ severity: 'success', summary: 'Brought back', life: 3000 })
    await refresh()
  } catch (error) {
    toast.add({ severity: 'error', summary: 'Not brought back', detail: (error as Error).message, life: 9000 })
  }
}

function askBringBack(revision: number) {
  confirm.require({
    header: `Bring back revision ${revision}?`,
    message: 'The record gets the values that it had then, by a new change. Nothing goes from its history.',
    acceptLabel: 'Bring back',
    rejectLabel: 'Cancel',
    rejectProps: { severity: 'secondary' },
    accept: async () => {
      try {
        await ask(api.POST('/v1/bring-back/{collection}/{id}', { params: { path: path.value }, body: { revision } }))
        toast.add({ severity: 'success', summary: 'Brought back', detail: `As at revision ${revision}`, life: 3000 })
        await refresh()
      } catch (error) {
        toast.add({ severity: 'error', summary: 'Not brought back', detail: (error as Error).message, life: 9000 })
      }
    },
  })
}

async function reopen(field: string) {
  try {
    await ask(api.POST('/v1/conflicts/reopenings', { body: { collection: path.value.collection, record: path.value.id, field } }))
    toast.add({ severity: 'success', summary: 'Open again', detail: 'It is among the conflicts', life: 4000 })
    await refresh()
  } catch (error) {
    toast.add({ severity: 'error', summary: 'Not opened', detail: (error as Error).message, life: 9000 })
  }
}

/** Who marked the record complete, and whether records of the collection are marked so. */
const marksField = computed(() => collection.value?.coverage?.complete)
const completedBy = computed(() => (marksField.value ? (fields.value[marksField.value] as string | undefined) : undefined))
async function mark(complete: boolean) {
  const params = { path: path.value, query: { base: record.value?.revision } }
  try {
    await ask(complete ? api.PUT('/v1/complete/{collection}/{id}', { params }) : api.DELETE('/v1/complete/{collection}/{id}', { params }))
    toast.add({ severity: 'success', summary: complete ? 'Marked complete' : 'Open again', life: 3000 })
    await refresh()
  } catch (error) {
    const reasons = error instanceof Problem ? error.reasons.map((r) => [titleOf(r.field), r.message].filter(Boolean).join(': ')).join('; ') : ''
    toast.add({ severity: 'error', summary: complete ? 'Not complete' : 'Not opened', detail: reasons || (error as Error).message, life: 9000 })
  }
}
const titleOf = (field?: string) => collection.value?.fields?.find((f) => f.name === field)?.title

const print = () => window.print()

function remove() {
  base.value = record.value?.revision ?? 0 // what is read now, whatever comes while the question is open
  confirm.require({
    header: 'Remove this record?',
    message: 'It goes from every device with its next exchange. Its history stays, and it can be brought back.',
    acceptLabel: 'Remove',
    rejectLabel: 'Keep',
    acceptProps: { severity: 'danger' },
    rejectProps: { severity: 'secondary' },
    accept: () => doRemove(false),
  })
}

async function doRemove(withChildren: boolean) {
  try {
    const query = { base: base.value, with_children: withChildren }
    const answer = await removal.send([id.value, query], (under) =>
      ask(api.DELETE('/v1/records/{collection}/{id}', { params: { path: path.value, query, header: { 'Idempotency-Key': under } } })),
    )
    if (!answer.record?.removed)
      toast.add({
        severity: 'warn',
        summary: 'Not removed',
        life: 12000,
        detail:
          answer.answer === 'held'
            ? 'Somebody had edited the record since you looked at it. Whether it goes is settled under Conflicts.'
            : 'Somebody had edited the record since you looked at it, and in this collection an edit outlives a removal. Look at it, and remove it again.',
      })
    await refresh()
  } catch (error) {
    const also = error instanceof Problem && !withChildren ? error.reasons.filter((r) => r.code === 'has-children' && r.message.includes('would go')) : []
    if (also.length) askForChildren(also.map((r) => r.message).join('; '))
    else toast.add({ severity: 'error', summary: 'Not removed', detail: (error as Error).message, life: 9000 })
  }
}

function askForChildren(also: string) {
  confirm.require({
    header: 'Remove what belongs to it, too?',
    message: `${also}. Each keeps its history and can be brought back.`,
    acceptLabel: 'Remove all',
    rejectLabel: 'Keep',
    acceptProps: { severity: 'danger' },
    rejectProps: { severity: 'secondary' },
    accept: () => doRemove(true),
  })
}
</script>

<template>
  <div class="page">
    <p class="path">
      <RouterLink :to="{ name: 'records', params: { collection: name } }">← {{ collection?.title ?? name }}</RouterLink>
      <template v-if="parent"
        ><span class="faint up">belongs to </span
        ><RouterLink :to="{ name: 'record', params: parent }">{{ referenced(parent.collection, parent.id) }}</RouterLink></template
      >
    </p>
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh" />
    <template v-if="record && collection">
      <div class="head">
        <h1 :class="{ gone: record.removed }">{{ labelOf(collection, fields) }}</h1>
        <AttentionMark :record="record" />
        <span class="faint">revision {{ record.revision }}</span>
        <span v-if="completedBy" class="good">complete, marked by {{ completedBy }}</span>
        <span v-if="record.removed" class="bad">removed</span>
        <RouterLink v-else-if="disputed.includes('record-removal')" :to="{ name: 'conflicts' }" class="disputed">its removal is in dispute</RouterLink>
        <span class="grow" />
        <Button v-if="!editing" icon="pi pi-print" text size="small" aria-label="Print" title="Print" class="print" @click="print" />
        <div v-if="mayEdit && !editing" class="actions">
          <Button v-if="completedBy && !record.removed" label="Open again" icon="pi pi-lock-open" size="small" severity="secondary" @click="mark(false)" />
          <template v-else-if="!record.removed">
            <Button v-if="marksField" label="Mark complete" icon="pi pi-check" size="small" severity="secondary" @click="mark(true)" />
            <Button :label="drafted(name, id) ? 'Go on with your draft' : 'Edit'" icon="pi pi-pencil" size="small" @click="edit" />
            <Button label="Remove" icon="pi pi-trash" size="small" severity="secondary" @click="remove" />
          </template>
          <Button v-else label="Bring back" icon="pi pi-undo" size="small" @click="bringBack" />
        </div>
      </div>
      <div class="columns">
        <section class="sheet padded">
          <h2>{{ editing ? `Editing revision ${base}` : 'Fields' }}</h2>
          <RecordForm
            v-if="editing"
            :collection="collection"
            :fields="fields"
            :kept="kept"
            :submit="save"
            done="Save"
            @cancel="editing = false"
            @thrown="thrown"
          >
            <p v-if="moved && record.removed" class="bad" role="status"
              >This record was removed meanwhile. Saving brings back what you changed where the collection lets edits stay.</p
            >
            <p v-else-if="moved && mine && lost" class="warn" role="status">Your save seems to have arrived. Save once more to be certain: it counts once.</p>
            <p v-else-if="moved && mine" class="warn" role="status"
              >You have changed this record meanwhile yourself, in another tab or elsewhere at central. Save all the same: different fields are merged.</p
            >
            <p v-else-if="moved" class="warn" role="status"
              >Somebody has changed this record meanwhile. Save all the same: different fields are merged, and the history keeps both.</p
            >
          </RecordForm>
          <p v-if="asOf && !editing" class="warn" role="status"
            >{{
              past
                ? `As central had it ${fullTime(asOf)}: revision ${past.revision}${past.removed ? ', removed' : ''}`
                : `Central did not have it ${fullTime(asOf)}`
            }}. <Button label="As it is now" size="small" text @click="router.replace({ query: {} })"
          /></p>
          <dl v-if="!editing">
            <template v-for="f in collection.fields" :key="f.name">
              <dt
                >{{ f.title }}<span v-if="given(f)" class="given" :title="f.computed || f.filled || f.series">{{ given(f) }}</span></dt
              >
              <dd>
                <RouterLink
                  v-if="f.reference && shownFields[f.name]"
                  :to="{ name: 'record', params: { collection: f.reference, id: String(shownFields[f.name]) } }"
                  >{{ shown(f, shownFields[f.name]) }}</RouterLink
                >
                <span v-else-if="shownFields[f.name] !== undefined">{{ shown(f, shownFields[f.name]) }}</span>
                <span v-else class="faint">–</span>
                <RouterLink v-if="disputed.includes(f.name)" :to="{ name: 'conflicts' }" class="disputed">in dispute</RouterLink>
              </dd>
            </template>
            <dt>Id</dt>
            <dd class="mono faint">{{ record.id }}</dd>
            <dt>Last edited</dt>
            <dd>{{ fullTime(record.edited_at) }} by {{ record.author }}{{ record.device ? ` on ${record.device}` : '' }}</dd>
          </dl>
        </section>
        <div class="stack">
          <template v-if="!record.removed"><ChildList v-for="c in children" :key="c.collection + id" :collection="c" :parent="id" /></template>
          <section class="sheet padded">
            <div class="top">
              <h2>History</h2>
              <span class="when"
                ><label for="as-of" class="faint">as of</label
                ><InputText
                  id="as-of"
                  type="datetime-local"
                  :model-value="asOf"
                  size="small"
                  @change="router.replace({ query: { as_of: ($event.target as HTMLInputElement).value || undefined } })"
              /></span>
            </div>
            <HistoryTrail :entries="history" :collection="collection" :may-bring-back="mayEdit && !editing" @bring-back="askBringBack" @reopen="reopen" />
          </section>
        </div>
      </div>
    </template>
    <EmptyNote v-else-if="!loading && !problem" title="There is no such record"><RouterLink to="/">All collections</RouterLink></EmptyNote>
  </div>
</template>

<style scoped>
.top {
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
  align-items: center;
  margin-bottom: 0.6rem;
}
.top h2 {
  margin: 0;
}
.when {
  display: inline-flex;
  gap: 0.5rem;
  align-items: center;
}
@media print {
  .print {
    display: none;
  }
}
.path {
  margin: 0 0 0.4rem;
}
.disputed {
  margin-left: 0.7rem;
  font-size: 0.86rem;
  color: var(--warn);
}
.stack {
  display: grid;
  gap: 1rem;
}
.given {
  display: block;
  font-size: 0.78rem;
  opacity: 0.8;
}
.up {
  margin-left: 0.9rem;
  white-space: pre;
}
.gone {
  text-decoration: line-through;
}
.columns {
  display: grid;
  grid-template-columns: minmax(0, 5fr) minmax(0, 6fr);
  gap: 1rem;
  align-items: start;
}
dl {
  display: grid;
  grid-template-columns: minmax(6.5rem, max-content) 1fr;
  gap: 0.35rem 1rem;
  margin: 0;
}
dt {
  color: var(--faint);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
@media (max-width: 900px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
