<script setup lang="ts">
import InputText from '../parts/InputText.vue'
import type { Ask, Counts, DeviceRecord, Mark } from 'homing-device/browser'
import { computed, defineAsyncComponent, onMounted, onUnmounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { locale, t, tn } from '../../../faces/words'
import { schemaOf } from '../../../faces/schema'
import { childrenOf, choiceFields, choiceTitle, definition, lookedUp, placeField } from '../definitions'
import { ago, device, explain, mayChange, store } from '../device'
import { usePage } from '../page'
import IconSign from '../parts/IconSign.vue'
import RecordLine from '../parts/RecordLine.vue'
import { here, locate } from '../position'

const ManySheet = defineAsyncComponent(() => import('../parts/ManySheet.vue'))
const PlacesMap = defineAsyncComponent(() => import('../parts/PlacesMap.vue'))

const route = useRoute()
const router = useRouter()
const name = String(route.params.collection)
const of = computed(() => definition(name))
usePage(
  () => of.value?.title ?? name,
  () => '/',
)

// What is asked for stands in the address: going back finds the list as it was.
const query = computed(() => route.query as Record<string, string | undefined>)
const set = (change: Record<string, string | undefined>) => router.replace({ query: { ...route.query, ...change } })
const words = ref(query.value.search ?? '')
let typing: ReturnType<typeof setTimeout> | undefined
watch(words, (now) => {
  clearTimeout(typing)
  typing = setTimeout(() => void set({ search: now || undefined }), 120)
})
const choices = computed(() => (of.value ? choiceFields(of.value) : []))
const chosen = computed(() => (query.value.where ? query.value.where.split('\n') : []))
function choose(condition: string) {
  const all = chosen.value.includes(condition)
    ? chosen.value.filter((one) => one !== condition)
    : [...chosen.value, condition]
  void set({ where: all.join('\n') || undefined })
}
const marks = computed(() => {
  const counts: Partial<Counts> = device.counts[name] ?? {}
  const all: { mark: Mark; say: string; n: number }[] = [
    { mark: 'urgent', say: t('urgent'), n: counts.urgent ?? 0 },
    { mark: 'soon', say: t('soon'), n: counts.soon ?? 0 },
    { mark: 'note', say: t('worth a look'), n: counts.note ?? 0 },
    { mark: 'refused', say: t('refused'), n: counts.refused ?? 0 },
    { mark: 'disputed', say: t('disputed'), n: counts.disputed ?? 0 },
    { mark: 'unsent', say: t('unsent'), n: counts.unsent ?? 0 },
  ]
  return all.filter((one) => one.n > 0 || query.value.marked === one.mark)
})
const sorts = computed(() => {
  const fields = (of.value?.fields ?? []).filter((field) => {
    const { type, $ref } = schemaOf(field)
    return type !== 'array' && type !== 'object' && !$ref && !field.reference
  })
  return [
    ...fields.map((field) => ({ value: field.name, say: field.title })),
    { value: '-edited_at', say: t('changed last') },
  ]
})
const place = computed(() => placeField(of.value))
const near = computed(() => query.value.near === '1' && place.value !== undefined)
const onMap = computed(() => query.value.map === '1' && place.value !== undefined)
const ask = computed<Ask>(() => ({
  where: chosen.value,
  search: query.value.search ?? '',
  sort: query.value.sort ?? firstSort.value,
  ...(query.value.marked ? { marked: query.value.marked as Mark } : {}),
  ...(near.value && here.position
    ? { near: { field: place.value!.name, lon: here.position.at[0], lat: here.position.at[1] } }
    : {}),
}))
/** By the first field of what records are called, unless somebody chooses. */
const firstSort = computed(() => sorts.value[0]?.value ?? '-edited_at')

async function nearest() {
  if (near.value) return set({ near: undefined })
  await locate()
  if (here.position) await set({ near: '1' })
}

const size = 50
const records = ref<DeviceRecord[]>()
const total = ref(0)
const more = ref(false)
const old = ref<{ asOf: string | null; age: string }>({ asOf: null, age: 'fresh' })
const below = ref<{ [id: string]: Partial<Counts> }>({})
const wrong = ref('')
let asking = 0
async function load(upTo: number) {
  const mine = ++asking
  try {
    const found = await store().find(name, { ...ask.value, limit: Math.min(Math.max(upTo, size), 1000) })
    if (mine !== asking) return
    records.value = found.records
    total.value = found.total
    more.value = found.more
    old.value = { asOf: found.asOf, age: found.age }
    wrong.value = ''
    if (childrenOf(name).length) {
      const all = await store().below(
        name,
        found.records.map((one) => one.id),
      )
      if (mine === asking) below.value = all
    }
  } catch (error) {
    if (mine === asking) wrong.value = explain(error)
  }
}
watch(ask, () => load(size))
let due: ReturnType<typeof setTimeout> | undefined
let stop = () => {}
onMounted(() => {
  void load(size)
  stop = store().listen(({ missed }) => {
    clearTimeout(due)
    if (missed) return
    due = setTimeout(() => void load(records.value?.length ?? size), 150)
  })
})
onUnmounted(() => {
  stop()
  clearTimeout(due)
  clearTimeout(typing)
})

/** Records that an exchange does not bring. */
const looking = ref(false)
const asked = ref(false)
async function lookUp() {
  looking.value = true
  wrong.value = ''
  try {
    const found = await store().lookUp(name, { search: query.value.search ?? '', where: chosen.value, limit: size })
    records.value = found.records
    total.value = found.total
    more.value = found.more
    asked.value = true
  } catch (error) {
    wrong.value = explain(error)
  } finally {
    looking.value = false
  }
}
/** Several records at once. */
const choosing = ref(false)
const picked = ref(new Set<string>())
const many = ref<'change' | 'remove'>()
function pick(id: string) {
  const next = new Set(picked.value)
  if (!next.delete(id)) next.add(id)
  picked.value = next
}
function endChoosing() {
  choosing.value = false
  picked.value = new Set()
  many.value = undefined
}
const pickedRecords = computed(() => (records.value ?? []).filter((one) => picked.value.has(one.id)))

const filtered = computed(() => chosen.value.length > 0 || !!query.value.search || !!query.value.marked)
</script>

<template>
  <Teleport to="#tools">
    <button
      v-if="place"
      type="button"
      class="btn plain"
      :aria-label="onMap ? t('As a list') : t('On a map')"
      @click="set({ map: onMap ? undefined : '1' })"
      ><IconSign :name="onMap ? 'list' : 'map'"
    /></button>
  </Teleport>
  <div class="page" :class="{ wide: onMap }">
    <p v-if="!of" class="banner warn">{{ t('There is no such collection on this device.') }}</p>
    <template v-else>
      <div class="search"
        ><IconSign name="find" /><InputText
          v-model="words"
          type="search"
          :placeholder="t('Find')"
          :aria-label="t('Find in {title}', { title: of.title })"
          fluid
      /></div>
      <div v-if="marks.length || place" class="chips" role="group" :aria-label="t('Marks')">
        <button v-if="place" type="button" class="chip" :aria-pressed="near" :disabled="here.looking" @click="nearest"
          ><IconSign name="here" :size="18" />{{
            here.looking ? t('Looking for where you are …') : t('Nearest first')
          }}</button
        >
        <button
          v-for="one in marks"
          :key="one.mark"
          type="button"
          class="chip"
          :aria-pressed="query.marked === one.mark"
          @click="set({ marked: query.marked === one.mark ? undefined : one.mark })"
          >{{ one.n.toLocaleString(locale()) }} {{ one.say }}</button
        >
      </div>
      <details class="narrow" :open="chosen.length > 0 || undefined">
        <summary
          >{{ t('Narrow and sort') }}<span v-if="chosen.length" class="mark mine">{{ chosen.length }}</span></summary
        >
        <div class="groups">
          <div v-for="field in choices" :key="field.name" class="field">
            <span class="name small">{{ field.title }}</span>
            <div class="chips" role="group" :aria-label="field.title">
              <button
                v-for="value in schemaOf(field).enum"
                :key="String(value)"
                type="button"
                class="chip"
                :aria-pressed="chosen.includes(`${field.name}=${value}`)"
                @click="choose(`${field.name}=${value}`)"
                >{{ choiceTitle(of, field.name, value) }}</button
              >
            </div>
          </div>
          <label class="field"
            ><span class="name small">{{ t('Sort by') }}</span
            ><select
              :value="query.sort ?? firstSort"
              @change="set({ sort: ($event.target as HTMLSelectElement).value })"
            >
              <option v-for="one in sorts" :key="one.value" :value="one.value">{{ one.say }}</option>
            </select></label
          >
        </div>
      </details>
      <p v-if="here.wrong" class="banner warn" role="alert">{{ here.wrong }}</p>
      <p v-if="wrong" class="banner bad" role="alert">{{ wrong }}</p>
      <p v-if="old.age === 'too old' || old.age === 'old'" class="banner warn"
        ><IconSign name="clock" /><span>{{
          t('As of {ago}: too old to go by. Exchange first.', { ago: ago(old.asOf) })
        }}</span></p
      >
      <div v-if="lookedUp(of)" class="sheet padded"
        ><p class="small">{{ t('Too many for every device: they are looked up at central when you need them.') }}</p
        ><button type="button" class="btn" :disabled="looking || !device.online" @click="lookUp"
          ><IconSign name="find" />{{ looking ? t('Looking …') : t('Look up at central') }}</button
        ><p v-if="!device.online" class="small">{{
          t('That needs signal; here is what was looked up before.')
        }}</p></div
      >
      <PlacesMap v-if="onMap && place" :of="of" :field="place.name" :ask="ask" />
      <template v-else-if="records">
        <div class="above"
          ><p class="faint small" role="status">{{
            more
              ? t('more than {n} records', { n: total.toLocaleString(locale()) })
              : tn(total, '{n} record|{n} records')
          }}</p
          ><button
            v-if="mayChange(of) && records.length && !choosing"
            type="button"
            class="btn plain"
            @click="choosing = true"
            >{{ t('Choose several') }}</button
          ></div
        >
        <ul v-if="records.length" class="sheet rows">
          <li v-for="one in records" :key="one.id">
            <button v-if="choosing" type="button" class="row" :aria-pressed="picked.has(one.id)" @click="pick(one.id)"
              ><span class="tick" :class="{ on: picked.has(one.id) }"
                ><IconSign v-if="picked.has(one.id)" name="check" :size="20" /></span
              ><RecordLine :record="one"
            /></button>
            <RouterLink v-else :to="`/records/${name}/${one.id}`" class="row"
              ><RecordLine :record="one" :below="below[one.id]" :far="near || !!here.position" /><IconSign name="next"
            /></RouterLink>
          </li>
        </ul>
        <p v-else class="sheet padded"
          ><span>{{
            filtered
              ? t('Nothing here fits.')
              : lookedUp(of) && !asked
                ? t('Nothing was looked up yet.')
                : t('There is nothing here yet.')
          }}</span></p
        >
        <button
          v-if="records.length < total && !asked"
          type="button"
          class="btn"
          @click="load(records.length + size)"
          >{{ t('Show more') }}</button
        >
      </template>
      <div v-if="choosing" class="add several" role="group" :aria-label="t('Several at once')">
        <b role="status">{{ tn(picked.size, '{n} chosen|{n} chosen') }}</b>
        <button type="button" class="btn" :disabled="!picked.size" @click="many = 'change'"
          ><IconSign name="edit" />{{ t('Change a field') }}</button
        >
        <button type="button" class="btn danger" :disabled="!picked.size" @click="many = 'remove'"
          ><IconSign name="remove" />{{ t('Remove') }}</button
        >
        <button type="button" class="btn" @click="endChoosing">{{ t('Done') }}</button>
      </div>
      <ManySheet
        v-if="many"
        :of="of"
        :records="pickedRecords"
        :what="many"
        @close="many = undefined"
        @done="endChoosing"
      />
      <RouterLink v-if="mayChange(of) && !onMap && !choosing" :to="`/records/${name}/new`" class="btn main add"
        ><IconSign name="plus" />{{ t('Add to {title}', { title: of.title }) }}</RouterLink
      >
    </template>
  </div>
</template>

<style scoped>
.search {
  position: relative;
}
.search svg {
  position: absolute;
  inset-inline-start: 0.8rem;
  top: 12px;
  color: var(--faint);
}
.search :deep(input) {
  padding-inline-start: 2.7rem;
}
summary {
  display: flex;
  gap: 0.6rem;
  align-items: center;
  min-height: 44px;
  cursor: pointer;
  color: var(--accent);
  text-decoration: underline;
}
.groups {
  display: grid;
  gap: 1rem;
}
.above {
  display: flex;
  justify-content: space-between;
  align-items: center;
  min-height: 48px;
}
.tick {
  display: grid;
  place-items: center;
  flex: none;
  width: 28px;
  height: 28px;
  border: 2px solid var(--edge);
  border-radius: 6px;
}
.tick.on {
  background: var(--accent);
  border-color: var(--accent);
  color: var(--on-accent);
}
.several {
  display: flex;
  flex-wrap: wrap;
  gap: 0.6rem;
  align-items: center;
  padding: 0.7rem;
  background: var(--sheet);
  border: 1.5px solid var(--edge);
  border-radius: 10px;
}
.add {
  position: sticky;
  bottom: calc(72px + env(safe-area-inset-bottom));
}
</style>
