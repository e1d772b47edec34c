<script setup lang="ts">
import ActButton from '../parts/ActButton.vue'
import { InvalidError, uuid7, type DeviceRecord, type Reason } from 'homing-device/browser'
import { computed, nextTick, onBeforeUnmount, onMounted, reactive, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { provideHalf, type Half } from '../../../faces/half'
import { schemaOf } from '../../../faces/schema'
import { t } from '../../../faces/words'
import { readJSON, writeJSON } from '../../../generate/exact'
import { definition, fieldOf, settable, stays, type Field } from '../definitions'
import { ago, explain, store } from '../device'
import { draftKeeper, readDraft, setInDraft, type FormDraft } from '../draft'
import { ask, say } from '../notices'
import { focusOn, usePage } from '../page'
import FieldBox from '../parts/FieldBox.vue'
import IconSign from '../parts/IconSign.vue'
import { why } from '../reasons'
import { takeBackLast } from '../undo'
import { fromStore, nameOf, sameValue, shown, toStore, valuesOf, type Fields } from '../values'

/** A form for one record, made from its definition. What is typed is on the disk a moment later, saved or not. */
const route = useRoute()
const router = useRouter()
const name = String(route.params.collection)
const isNew = route.name === 'new'
const of = computed(() => definition(name))
const parent = String(route.query.parent ?? '')
/** The place and the period of a record that is missing, where it was begun there. */
const cell = [String(route.query.place ?? ''), String(route.query.period ?? '')]
const under = parent || cell.join(' ').trim()
/** Where the id of a record that is added on the way is wanted: collection, record and field of the draft that waits for it. */
const wanted = String(route.query.for ?? '').split('/')

const ready = ref(false)
const gone = ref('')
const saw = ref<DeviceRecord>()
const id = ref(isNew ? String(route.query.draft ?? '') : String(route.params.id))
let start: Fields = {}
let before: Fields = {}
const draft = reactive<Fields>({})
const half = reactive<Half>({})
provideHalf(half)
const unread = reactive<Record<string, string>>({})
const reasons = ref<Reason[]>([])
const wrong = ref('')
const busy = ref(false)
const again = ref('') // when what stands here was typed, if that was before the form was opened
const news = ref<{ title: string; value: string }[]>([])
const redefined = ref(false)
const version = ref(0) // counts how often the boxes were filled from outside
const unkept = ref('') // why what is typed is not being kept
const keeperOf = (record: string) => draftKeeper(name, record, (error) => (unkept.value = error ? explain(error) : ''))
let keeper = keeperOf(id.value)

usePage(
  () =>
    isNew ? t('Add to {title}', { title: of.value?.title ?? name }) : (saw.value && nameOf(saw.value)) || t('Edit'),
  () => (isNew ? `/records/${name}` : `/records/${name}/${id.value}`),
)

const copy = (fields: Fields) => readJSON<Fields>(writeJSON(fields))

/** What a new record starts with: by the definition, by where it was added, by the last one of many. */
function firstValues(last: Fields = {}): Fields {
  const first: Fields = {}
  for (const field of of.value?.fields ?? []) {
    const value = schemaOf(field).default
    if (settable(field) && value !== undefined && value !== null) first[field.name] = value
    if (field.again && last[field.name] !== undefined) first[field.name] = last[field.name]
  }
  const { place, period } = of.value?.coverage ?? {}
  if (place && period && cell[0] && cell[1]) Object.assign(first, { [place]: cell[0], [period]: cell[1] })
  if (of.value?.parent && parent) first[of.value.parent.field] = parent
  return first
}

function fill(fields: Fields) {
  for (const known of Object.keys(draft)) delete draft[known]
  Object.assign(draft, copy(fields))
  version.value++
}

async function begin() {
  const drafts = (await store().drafts()).filter((one) => one.collection === name)
  let kept = drafts.find((one) => one.record === id.value)
  if (isNew && !route.query.draft) {
    // One that was begun at the same place is offered again; another one stays where it is.
    kept = drafts.find((one) => readDraft(one.text)?.isNew && readDraft(one.text)?.parent === under)
  }
  const was = kept && readDraft(kept.text)
  if (isNew) {
    id.value = kept?.record ?? (id.value || uuid7(Date.now()))
    const there = await store()
      .get(name, id.value)
      .catch(() => undefined)
    if (kept && there) {
      // It was saved, and the app ended before it could say so.
      await store().dropDraft(name, id.value)
      return router.replace(`/records/${name}/${id.value}`)
    }
    start = firstValues()
  } else {
    const record = await store()
      .get(name, id.value)
      .catch((error: unknown) => void (gone.value = explain(error)))
    if (!record && !was) return
    saw.value = was?.saw ? ({ ...was.saw, fields: toStore(was.saw.fields) } as DeviceRecord) : record!
    before = fromStore(saw.value.fields) as Fields
    start = before
    if (was?.saw && record) tellNews(record)
  }
  keeper = keeperOf(id.value)
  fill(start)
  if (was) {
    for (const [field, value] of Object.entries(was.fields)) draft[field] = value ?? undefined
    Object.assign(half, was.half)
    again.value = kept!.at
  }
  await askWhen()
  ready.value = true
  await nextTick()
  watch([draft, half], keep)
  if (!again.value)
    await focusOn(
      'form [data-first] input, form [data-first] textarea, form [data-first] button, form [data-first] select',
    )
}

function changed(): Fields {
  const fields: Fields = {}
  for (const field of inputs.value)
    if (!sameValue(before[field.name], draft[field.name])) fields[field.name] = draft[field.name] ?? null
  return fields
}
const touched = () =>
  Object.keys(half).length > 0 ||
  Object.values(unread).some(Boolean) ||
  inputs.value.some((field) => !sameValue(start[field.name], draft[field.name]))

function keep() {
  if (over) return
  void askWhen()
  keeper.keep(touched() ? asDraft() : undefined)
}

function asDraft(): FormDraft {
  const seen = saw.value && ({ ...saw.value, fields: fromStore(saw.value.fields) } as DeviceRecord)
  return { isNew, fields: changed(), half: { ...half }, parent: under, saw: seen }
}

/** The fields that are asked for, by what stands in others. */
const not = ref(new Set<string>())
let asking = 0
async function askWhen() {
  if (!of.value?.fields.some((field) => field.when)) return
  const mine = ++asking
  const all = await store().unasked(name, valuesOf(copy(draft)))
  if (mine === asking) not.value = new Set(all)
}
const inputs = computed(() =>
  (of.value?.fields ?? []).filter((field) => settable(field) && (isNew || !stays(of.value, field.name))),
)
const asked = computed(() => inputs.value.filter((field) => !not.value.has(field.name)))

let over = false // what was typed is saved, or may go
async function throwAway() {
  fill(start)
  for (const known of Object.keys(half)) delete half[known]
  for (const known of Object.keys(unread)) unread[known] = ''
  again.value = ''
  keeper.keep()
}
async function cancel() {
  if (!touched()) {
    return leave()
  }
  const sure = await ask({
    title: t('Throw away what you typed?'),
    text: t('It is not saved. If you only go back, it is kept as it is, and offered again.'),
    yes: t('Throw it away'),
    no: t('Go on typing'),
    danger: true,
  })
  if (!sure) return
  over = true
  await forget()
  leave()
}
/** Lets the draft go, and waits until it has gone. */
function forget() {
  keeper.keep()
  return keeper.settled()
}
const leave = () =>
  history.state?.back ? router.back() : router.replace(isNew ? `/records/${name}` : `/records/${name}/${id.value}`)

/** What others did to the record since the form was opened. The form stays as it is; what is saved meets it by the rules. */
function tellNews(now: DeviceRecord) {
  const fields = new Set([...Object.keys(saw.value?.fields ?? {}), ...Object.keys(now.fields)])
  news.value = [...fields]
    .filter((field) => !sameValue(fromStore(saw.value?.fields[field]), fromStore(now.fields[field])))
    .map((field) => ({
      title: (of.value && fieldOf(of.value, field)?.title) ?? field,
      value: shown(of.value, field, now.fields[field]) || t('nothing'),
    }))
}
async function lookAgain() {
  try {
    tellNews(await store().get(name, id.value))
    gone.value = ''
  } catch (error) {
    gone.value = explain(error)
  }
}
let stop = () => {}
onMounted(async () => {
  await begin()
  const opened = of.value?.version
  watch(
    () => of.value?.version,
    (now) => (redefined.value = now !== opened),
  )
  stop = store().listen(({ collection, id: which, missed }) => {
    if (isNew || missed || over || collection !== name || which !== id.value) return
    void lookAgain()
  })
})
onBeforeUnmount(() => stop())

async function save(next = false) {
  await nextTick() // a list takes over what was typed last when it loses the focus
  if (asked.value.some((field) => unread[field.name])) return toWhatIsWrong()
  const fields = changed()
  for (const field of not.value) {
    if (before[field] !== undefined) fields[field] = null
    else delete fields[field]
  }
  busy.value = true
  wrong.value = ''
  reasons.value = []
  try {
    await keeper.settled()
    const values = valuesOf(copy(fields))
    let record: DeviceRecord
    if (isNew) record = await store().add(name, values, id.value)
    else if (Object.keys(fields).length === 0) record = saw.value!
    else record = await store().edit(name, id.value, values, saw.value)
    over = true
    await forget()
    await saved(record, next, Object.keys(fields).length > 0)
  } catch (error) {
    reasons.value = error instanceof InvalidError ? error.reasons : []
    wrong.value = error instanceof InvalidError ? t('It was not saved yet: look at what is marked.') : explain(error)
    busy.value = false
    await toWhatIsWrong()
  }
}

async function saved(record: DeviceRecord, next: boolean, anything: boolean) {
  busy.value = false
  const undo = { label: t('Undo'), run: () => takeBackLast(name, record.id) }
  if (anything) say(t('Saved on this device: {label}', { label: nameOf(record) }), { action: undo })
  if (wanted.length === 3) {
    await setInDraft(wanted[0]!, wanted[1]!, wanted[2]!, record.id)
    return router.back()
  }
  if (next) {
    const last = copy(draft)
    id.value = uuid7(Date.now())
    keeper = keeperOf(id.value)
    start = firstValues(last)
    for (const known of Object.keys(half)) delete half[known]
    again.value = ''
    fill(start)
    over = false
    scrollTo(0, 0)
    return focusOn(
      'form [data-first] input, form [data-first] textarea, form [data-first] button, form [data-first] select',
    )
  }
  if (isNew) return router.replace(`/records/${name}/${record.id}`)
  return leave()
}

async function toWhatIsWrong() {
  await nextTick()
  const first = asked.value.find((field) => reasonFor(field.name))
  const box = first && document.getElementById(`field-${first.name}`)
  const input = box?.querySelector<HTMLElement>('input, textarea, select, button')
  box?.scrollIntoView({ block: 'center' })
  input?.focus({ preventScroll: true })
}
const reasonFor = (field: string) =>
  unread[field] ||
  reasons.value
    .filter((one) => one.field === field || one.field?.startsWith(`${field}/`))
    .map(why)
    .join('; ')
/** Reasons of no field that is shown. */
const otherReasons = computed(() =>
  reasons.value.filter(
    (one) => !asked.value.some((field) => one.field === field.name || one.field?.startsWith(`${field.name}/`)),
  ),
)

/** Adds a record for a reference; what stands here waits as a draft. */
async function addOnTheWay(field: Field) {
  keeper.keep(asDraft())
  await keeper.settled()
  if (isNew) await router.replace({ query: { ...route.query, draft: id.value } })
  await router.push(`/records/${field.reference}/new?for=${name}/${id.value}/${field.name}`)
}
</script>

<template>
  <div class="page">
    <div v-if="gone" class="banner warn" role="alert"
      ><IconSign name="warn" /><div class="grow"
        ><p>{{
          t('This record has gone from this device: somebody has removed it, or it is no longer yours to see.')
        }}</p
        ><p v-if="ready" class="small">{{
          t('What you typed is kept here. Saving may bring the record back, as its rules say.')
        }}</p></div
      ></div
    >
    <p v-if="redefined" class="banner warn" role="status"
      ><IconSign name="warn" /><span>{{
        t('The form has changed at central. What you typed is still here; look over it before you save.')
      }}</span></p
    >
    <div v-if="news.length && !gone" class="banner warn" role="status"
      ><IconSign name="warn" /><div class="grow"
        ><p>{{ t('Somebody has changed this record since you opened it. What you save meets that by its rules.') }}</p
        ><p v-for="one in news" :key="one.title" class="small"
          ><b>{{ one.title }}</b
          >: {{ one.value }}</p
        ></div
      ></div
    >
    <div v-if="again" class="banner"
      ><IconSign name="pen" /><div class="grow"
        ><p role="status">{{ t('What you typed {ago} is here again, and not saved yet.', { ago: ago(again) }) }}</p
        ><button type="button" class="btn" @click="throwAway">{{ t('Throw it away') }}</button></div
      ></div
    >
    <p v-if="!of" class="banner warn">{{ t('There is no such collection on this device.') }}</p>
    <form v-if="of && ready" class="form" novalidate @submit.prevent="save()">
      <div
        v-for="(field, n) in asked"
        :id="`field-${field.name}`"
        :key="`${field.name} ${version}`"
        :data-first="n === 0 || undefined"
        class="field"
        :class="{ off: reasonFor(field.name) }"
      >
        <FieldBox
          v-model="draft[field.name]"
          :field="field"
          :of="of"
          :wrong="reasonFor(field.name)"
          @wrong="unread[field.name] = $event"
          @add="addOnTheWay(field)"
        />
      </div>
      <p v-for="(one, n) in otherReasons" :key="n" class="wrong" role="alert"
        >{{ one.field ? `${one.field}: ` : '' }}{{ why(one) }}</p
      >
      <p v-if="wrong" class="banner bad" role="alert">{{ wrong }}</p>
      <p v-if="unkept" class="banner warn" role="alert">{{
        t('What you type is not being kept: {why}', { why: unkept })
      }}</p>
      <div class="done">
        <ActButton type="submit" :label="t('Save')" :loading="busy" class="grow" />
        <button v-if="isNew && wanted.length !== 3" type="button" class="btn" :disabled="busy" @click="save(true)">{{
          t('Save and next')
        }}</button>
        <button type="button" class="btn" @click="cancel">{{ t('Cancel') }}</button>
      </div>
    </form>
  </div>
</template>

<style scoped>
.form {
  display: grid;
  gap: 1.1rem;
}
.off {
  border-inline-start: 4px solid var(--bad);
  padding-inline-start: 0.7rem;
}
.done {
  position: sticky;
  bottom: 0;
  display: flex;
  flex-wrap: wrap;
  gap: 0.6rem;
  margin: 0 -0.9rem -1.5rem;
  padding: 0.7rem 0.9rem calc(0.7rem + env(safe-area-inset-bottom));
  background: var(--ground);
  border-top: 1px solid var(--line);
}
</style>
