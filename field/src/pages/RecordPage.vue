<script setup lang="ts">
import { InvalidError, type Counts, type DeviceRecord, type Past, type Queued } from 'homing-device/browser'
import { computed, defineAsyncComponent, onMounted, onUnmounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { locale, t, tn } from '../../../faces/words'
import { isLine, isPoint, schemaOf } from '../../../faces/schema'
import { attentionTitle, childrenOf, definition, fieldOf, settable } from '../definitions'
import { device, explain, mayChange, moment, store } from '../device'
import { ask, say } from '../notices'
import { usePage } from '../page'
import DisputeBox from '../parts/DisputeBox.vue'
import FromTo from '../parts/FromTo.vue'
import IconSign from '../parts/IconSign.vue'
import MarkSigns from '../parts/MarkSigns.vue'
import RecordLine from '../parts/RecordLine.vue'
import { why } from '../reasons'
import { noteSeen } from '../recent'
import { takeBackLast } from '../undo'
import { called, forgetLabels, nameOf, shown } from '../values'

const PlacesMap = defineAsyncComponent(() => import('../parts/PlacesMap.vue'))

const route = useRoute()
const router = useRouter()
const name = String(route.params.collection)
const id = String(route.params.id)
const of = computed(() => definition(name))
const record = ref<DeviceRecord>()
const gone = ref('')
const wrong = ref('')
const queued = ref<Queued[]>([])
const past = ref<Past[]>()
const below = ref<Partial<Counts>>()
const kin = ref<{ [child: string]: { records: DeviceRecord[]; total: number } }>({})
usePage(
  () => (record.value ? nameOf(record.value) : of.value?.title) || '',
  () => `/records/${name}`,
)

async function load() {
  try {
    record.value = await store().get(name, id)
    gone.value = ''
  } catch (error) {
    gone.value = explain(error)
    return
  }
  const all = await store().review()
  queued.value = all.filter((one) => one.record === id && one.collection === name)
  below.value = (await store().below(name, [id]))[id]
  const children = await Promise.all(
    childrenOf(name).map(async (child) => {
      const found = await store().children(record.value!, child.collection, { limit: 5, sort: '-edited_at' })
      return [child.collection, { records: found.records, total: found.total }] as const
    }),
  )
  kin.value = Object.fromEntries(children)
  if (past.value) past.value = await store().history(name, id)
}
let stop = () => {}
let due: ReturnType<typeof setTimeout> | undefined
onMounted(async () => {
  await load()
  if (record.value) noteSeen(device.worker, { collection: name, id })
  stop = store().listen(({ missed }) => {
    clearTimeout(due)
    if (missed) return
    due = setTimeout(() => {
      forgetLabels()
      void load()
    }, 120)
  })
})
onUnmounted(() => {
  stop()
  clearTimeout(due)
})

const fields = computed(() =>
  (of.value?.fields ?? []).filter(
    (field) => record.value?.fields[field.name] !== undefined || record.value?.provisional[field.name],
  ),
)
const hasPlace = computed(() => fields.value.find((field) => isPoint(schemaOf(field)) || isLine(schemaOf(field))))
const refusals = computed(() => queued.value.filter((one) => one.answer))

async function showPast() {
  past.value = past.value ? undefined : await store().history(name, id)
}

async function attempt(work: () => Promise<unknown>) {
  wrong.value = ''
  try {
    await work()
    await load()
  } catch (error) {
    wrong.value = explain(error)
  }
}
const sendAgain = (number: number) => attempt(() => store().sendAgain(number))
async function giveUp(number: number) {
  const sure = await ask({
    title: t('Give up what was refused?'),
    text: t(
      'What you saved of this record and central has refused goes from here. It is written to a file on this device first.',
    ),
    yes: t('Give it up'),
    no: t('Keep it'),
    danger: true,
  })
  if (sure) await attempt(() => store().discard(number))
}

/** Who marked the record complete, in a collection in which somebody does. */
const marks = computed(() => of.value?.coverage?.complete)
const completedBy = computed(() =>
  marks.value ? (record.value?.fields[marks.value] as string | undefined) : undefined,
)
async function mark(complete: boolean) {
  wrong.value = ''
  try {
    const saw = record.value
    await (complete ? store().complete(name, id, saw) : store().reopen(name, id, saw))
    say(complete ? t('Marked as complete.') : t('Open again.'))
    await load()
  } catch (error) {
    const reasons = error instanceof InvalidError ? error.reasons : []
    wrong.value = reasons.length
      ? reasons.map((one) => `${(of.value && fieldOf(of.value, one.field ?? '')?.title) ?? ''}: ${why(one)}`).join(' ')
      : explain(error)
  }
}

async function remove() {
  const now = record.value
  if (!now) return
  const children = Object.entries(kin.value).filter(
    ([child, { total }]) => total > 0 && definition(child)?.parent?.removal === 'remove',
  )
  const label = nameOf(now)
  if (children.length) {
    const list = children
      .map(([child, { total }]) => `${total.toLocaleString(locale())} ${definition(child)?.title}`)
      .join(', ')
    const sure = await ask({
      title: t('Remove {label}?', { label }),
      text: t('What belongs to it goes with it: {list}, and what belongs to that.', { list }),
      yes: t('Remove all of it'),
      no: t('Keep it'),
      danger: true,
    })
    if (!sure) return
  }
  try {
    await store().remove(name, id, now)
    say(t('Removed: {label}', { label }), { action: { label: t('Undo'), run: () => takeBackLast(name, id) } })
    if (history.state?.back) router.back()
    else await router.replace(`/records/${name}`)
  } catch (error) {
    wrong.value = explain(error)
  }
}
</script>

<template>
  <div class="page">
    <div v-if="gone && !record" class="banner warn"
      ><IconSign name="warn" /><div class="grow"
        ><p>{{ t('This record is not on this device, or no longer.') }}</p
        ><p class="small">{{ t('Somebody may have removed it, or it is no longer yours to see.') }}</p></div
      ></div
    >
    <template v-if="record && of">
      <p v-if="gone" class="banner warn"
        ><IconSign name="warn" /><span>{{
          t('It has just gone: somebody has removed it, or it is no longer yours to see. Here is what it was.')
        }}</span></p
      >
      <p
        v-if="record.attention"
        class="banner"
        :class="{ bad: record.attention.grade === 'urgent', warn: record.attention.grade === 'soon' }"
        ><IconSign name="warn" /><b>{{ attentionTitle(of, record.attention.say) }}</b></p
      >
      <p v-if="completedBy" class="banner"
        ><IconSign name="check" /><span class="grow">{{ t('complete, by {who}', { who: completedBy }) }}</span></p
      >
      <p v-if="record.lost" class="banner warn"
        ><IconSign name="warn" /><span>{{
          t(
            'Central was restored from a backup and may not have this record any more. It is kept here, and offered again.',
          )
        }}</span></p
      >
      <section v-if="refusals.length" class="banner bad refused" role="alert">
        <div class="grow">
          <h2>{{ t('Central has refused this') }}</h2>
          <ul>
            <template v-for="one in refusals" :key="one.number">
              <li v-for="(reason, n) in one.reasons" :key="n"
                ><b v-if="reason.field">{{ fieldOf(of, reason.field.split('/')[0]!)?.title ?? reason.field }}: </b
                >{{ why(reason) }}</li
              >
            </template>
          </ul>
          <div class="acts">
            <RouterLink :to="`/records/${name}/${id}/edit`" class="btn main">{{ t('Mend it') }}</RouterLink>
            <button type="button" class="btn" @click="sendAgain(refusals[0]!.number)">{{
              t('Send it again as it is')
            }}</button>
            <button type="button" class="btn danger" @click="giveUp(refusals[0]!.number)">{{ t('Give it up') }}</button>
          </div>
        </div>
      </section>
      <DisputeBox
        v-for="(dispute, field) in record.disputes"
        :key="field"
        :record="record"
        :field="String(field)"
        :dispute="dispute"
        @settled="load"
      />
      <p v-if="wrong" class="banner bad" role="alert">{{ wrong }}</p>

      <div v-if="record.pending || below" class="chips signs"
        ><span v-if="record.pending && !refusals.length" class="mark mine">{{
          record.revision === 0 ? t('new, unsent') : t('unsent')
        }}</span
        ><MarkSigns v-if="below" :counts="below" below
      /></div>
      <dl class="sheet">
        <div v-for="field in fields" :key="field.name">
          <dt>{{ field.title }}</dt>
          <dd>
            <RouterLink
              v-if="field.reference && typeof record.fields[field.name] === 'string'"
              :to="`/records/${field.reference}/${record.fields[field.name]}`"
              class="ref"
              >{{ called(field.reference, String(record.fields[field.name])) }}</RouterLink
            >
            <template v-else-if="record.provisional[field.name]"
              >{{ record.provisional[field.name] }}
              <span class="faint small">{{ t('until central gives the number') }}</span></template
            >
            <template v-else>{{ shown(of, field.name, record.fields[field.name]) }}</template>
            <span v-if="field.computed" class="faint small">{{ t('worked out') }}</span>
            <span v-if="field.local" class="faint small">{{ t('stays on this device') }}</span>
          </dd>
        </div>
      </dl>
      <details v-if="hasPlace"
        ><summary>{{ t('On a map') }}</summary
        ><PlacesMap :of="of" :field="hasPlace.name" :ask="{}" :about="id"
      /></details>

      <section v-for="child in childrenOf(name)" :key="child.collection" class="kin">
        <div class="kinhead"
          ><h2
            >{{ child.title }}
            <span class="faint">{{ (kin[child.collection]?.total ?? 0).toLocaleString(locale()) }}</span></h2
          ><RouterLink
            v-if="mayChange(child) && !gone"
            :to="`/records/${child.collection}/new?parent=${id}`"
            class="btn"
            :aria-label="t('Add to {title}', { title: child.title })"
            ><IconSign name="plus" /></RouterLink
        ></div>
        <ul v-if="kin[child.collection]?.records.length" class="sheet rows">
          <li v-for="one in kin[child.collection]?.records" :key="one.id">
            <RouterLink :to="`/records/${child.collection}/${one.id}`" class="row"
              ><RecordLine :record="one" /><IconSign name="next"
            /></RouterLink>
          </li>
        </ul>
        <RouterLink
          v-if="(kin[child.collection]?.total ?? 0) > 5"
          :to="{ path: `/records/${child.collection}`, query: { where: `${child.parent!.field}=${id}` } }"
          class="btn"
          >{{ tn(kin[child.collection]!.total, 'Show it|Show all {n}') }}</RouterLink
        >
      </section>

      <section>
        <button type="button" class="btn whole" :aria-expanded="!!past" @click="showPast">{{
          past ? t('Hide what has become of it') : t('What has become of it')
        }}</button>
        <ol v-if="past" class="sheet past">
          <li v-for="(one, n) in past" :key="n">
            <p
              ><b>{{ one.author === device.worker ? t('you') : one.author }}</b
              ><span v-if="one.device" class="faint"> · {{ one.device }}</span> · {{ moment(one.at) }}
              <span
                v-if="one.state !== 'accepted' && one.state !== 'central'"
                class="mark"
                :class="one.state === 'refused' ? 'bad' : 'mine'"
                >{{
                  one.state === 'sent'
                    ? t('on its way')
                    : one.state === 'refused'
                      ? t('refused')
                      : one.state === 'waiting'
                        ? t('waits')
                        : t('unsent')
                }}</span
              ></p
            >
            <p class="small faint">{{
              one.kind === 'add'
                ? t('added')
                : one.kind === 'remove'
                  ? t('removed')
                  : one.state === 'central'
                    ? t('the last that central said')
                    : t('changed')
            }}</p>
            <FromTo v-if="Object.keys(one.fields).length" :of="of" :fields="one.fields" />
          </li>
          <li class="small faint">{{ t('Earlier history is at central.') }}</li>
        </ol>
      </section>

      <div v-if="mayChange(of) && !gone" class="acts ends">
        <button v-if="completedBy" type="button" class="btn grow" @click="mark(false)">{{ t('Open it again') }}</button>
        <button v-else-if="marks" type="button" class="btn main grow" @click="mark(true)"
          ><IconSign name="check" />{{ t('Mark as complete') }}</button
        >
        <RouterLink
          v-if="!completedBy && (fields.length || of.fields.some(settable))"
          :to="`/records/${name}/${id}/edit`"
          class="btn grow"
          :class="{ main: !marks }"
          ><IconSign name="edit" />{{ t('Edit') }}</RouterLink
        >
        <button v-if="!completedBy" type="button" class="btn danger" @click="remove"
          ><IconSign name="remove" />{{ t('Remove') }}</button
        >
      </div>
    </template>
  </div>
</template>

<style scoped>
dl {
  margin: 0;
}
dl > div {
  display: grid;
  grid-template-columns: minmax(7rem, 34%) 1fr;
  gap: 0.2rem 0.8rem;
  padding: 0.6rem 0.9rem;
}
dl > div + div {
  border-top: 1px solid var(--line);
}
dt {
  color: var(--faint);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
  white-space: pre-line;
}
dd .small {
  margin-inline-start: 0.4rem;
}
.ref {
  display: inline-block;
  padding: 0.2rem 0;
  min-height: 28px;
}
.refused .grow {
  display: grid;
  gap: 0.6rem;
}
.kin,
section {
  display: grid;
  gap: 0.5rem;
}
.kinhead {
  display: flex;
  justify-content: space-between;
  align-items: center;
}
.past {
  margin: 0;
  padding: 0;
  list-style: none;
}
.past li {
  padding: 0.6rem 0.9rem;
  display: grid;
  gap: 0.25rem;
}
.past li + li {
  border-top: 1px solid var(--line);
}
.ends {
  position: sticky;
  bottom: calc(62px + env(safe-area-inset-bottom));
  margin: 0 -0.9rem -1.5rem;
  padding: 0.7rem 0.9rem;
  background: var(--ground);
  border-top: 1px solid var(--line);
}
.signs {
  align-items: center;
}
summary {
  min-height: 44px;
  display: flex;
  align-items: center;
  color: var(--accent);
  text-decoration: underline;
  cursor: pointer;
}
</style>
