<script setup lang="ts">
import type { Exchanged, Queued, Summary } from 'homing-device/browser'
import { computed, onMounted, onUnmounted, ref, watch } from 'vue'
import { t, tn } from '../../../faces/words'
import { definition, definitions, fieldOf } from '../definitions'
import { ago, device, exchange, explain, holdsBack, moment, store } from '../device'
import { ask, say } from '../notices'
import { usePage } from '../page'
import FromTo from '../parts/FromTo.vue'
import IconSign from '../parts/IconSign.vue'
import RecordLine from '../parts/RecordLine.vue'
import { why } from '../reasons'
import { metered } from '../settings'
import { told } from '../sums'
import type { DeviceRecord, Reason } from 'homing-device/browser'

/** What will be sent, from what to what; what became of what was sent; and what needs somebody. */
usePage(() => t('Unsent'))
const queue = ref<Queued[]>()
const disputes = ref<DeviceRecord[]>([])
const log = ref<Exchanged[]>([])
const result = ref<Summary>()
const wrong = ref('')
const most = 30

async function load() {
  const [all, past] = await Promise.all([store().review(), store().exchanges()])
  queue.value = all
  log.value = past
  const marked = await Promise.all(
    definitions()
      .filter((of) => (device.counts[of.collection]?.disputed ?? 0) > 0)
      .map((of) => store().find(of.collection, { marked: 'disputed', limit: most })),
  )
  disputes.value = marked.flatMap((found) => found.records)
}
/** The changes by record, in the order in which they go. */
const records = computed(() => {
  const all = new Map<string, { collection: string; record: string; label: string; changes: Queued[] }>()
  for (const one of queue.value ?? []) {
    const key = `${one.collection}/${one.record}`
    const known = all.get(key) ?? { collection: one.collection, record: one.record, label: one.label, changes: [] }
    all.set(key, known)
    known.changes.push(one)
    known.label ||= one.label
  }
  return [...all.values()].toSorted((a, b) => Number(isStuck(b)) - Number(isStuck(a)))
})
const isStuck = (one: { changes: Queued[] }) => one.changes.some((change) => change.answer)
const shownMost = ref(most)
/** The last exchange in which anything went or came, whoever asked for it. */
const lately = computed(() => log.value.find((one) => told(one.summary).length))

async function send() {
  wrong.value = ''
  result.value = undefined
  try {
    result.value = await exchange()
  } catch (error) {
    wrong.value = explain(error)
  }
  await load()
}
async function takeBack(one: Queued) {
  const sure = await ask({
    title: t('Take this back?'),
    text: t('It will not be sent, and the record is again as it was. What goes is written to a file on this device.'),
    yes: t('Take it back'),
    no: t('Leave it'),
    danger: true,
  })
  if (!sure) return
  try {
    await store().takeBack(one.number)
    say(t('Taken back.'))
  } catch (error) {
    say(explain(error), { bad: true })
  }
  await load()
}

let stop = () => {}
let due: ReturnType<typeof setTimeout> | undefined
onMounted(() => {
  void load()
  stop = store().listen(({ missed }) => {
    clearTimeout(due)
    if (!missed) due = setTimeout(() => void load(), 150)
  })
})
watch(() => device.last?.startedAt, load) // one that went by itself has ended
onUnmounted(() => {
  stop()
  clearTimeout(due)
})
const held = computed(() => holdsBack() && metered())
const titleOf = (one: Queued, reason: Reason) => {
  const of = definition(one.collection)
  return reason.field ? `${(of && fieldOf(of, reason.field.split('/')[0]!)?.title) ?? reason.field}: ` : ''
}
const kinds = computed(() => ({ add: t('new'), edit: t('changed'), remove: t('removed') }))
</script>

<template>
  <div class="page">
    <section class="sheet padded">
      <p v-if="held && !device.exchanging">{{
        t('This link may cost by the byte, so nothing goes by itself. Send when you want to.')
      }}</p>
      <p v-else-if="!device.online">{{ t('No signal. What is here is safe, and goes when there is some.') }}</p>
      <button type="button" class="btn main whole" :disabled="!!device.exchanging" @click="send"
        ><IconSign name="send" />{{ device.exchanging ? t('Exchanging …') : t('Exchange now') }}</button
      >
      <p v-if="wrong" class="banner warn" role="alert">{{ wrong }}</p>
      <div role="status">
        <p v-if="result && !told(result).length">{{ t('Both sides agree: there was nothing new.') }}</p>
        <template v-if="lately"
          ><p class="faint small">{{ moment(lately.startedAt) }} · {{ ago(lately.startedAt) }}</p>
          <p v-for="one in told(lately.summary)" :key="one.text" :class="{ bad: one.bad }"
            ><IconSign :name="one.bad ? 'warn' : 'check'" :size="18" /> {{ one.text }}</p
          ></template
        >
      </div>
    </section>

    <section v-if="disputes.length">
      <h2>{{ t('Disputed') }}</h2>
      <ul class="sheet rows">
        <li v-for="one in disputes" :key="one.id">
          <RouterLink :to="`/records/${one.collection}/${one.id}`" class="row"
            ><RecordLine :record="one" /><IconSign name="next"
          /></RouterLink>
        </li>
      </ul>
    </section>

    <section v-if="queue">
      <h2>{{ queue.length ? t('What will be sent') : t('Nothing waits to be sent') }}</h2>
      <ul class="list">
        <li v-for="one in records.slice(0, shownMost)" :key="one.record" class="sheet padded">
          <RouterLink :to="`/records/${one.collection}/${one.record}`" class="about"
            ><b>{{ one.label || t('without a name') }}</b
            ><span class="faint small">{{ definition(one.collection)?.title }}</span></RouterLink
          >
          <div v-for="change in one.changes" :key="change.number" class="change">
            <p class="small what"
              ><span class="mark" :class="change.answer ? 'bad' : 'mine'">{{
                change.answer === 'refused'
                  ? t('refused')
                  : change.answer === 'waiting'
                    ? t('waits')
                    : kinds[change.kind]
              }}</span>
              <span class="faint"> {{ moment(change.editedAt) }}</span><span v-if="change.sent" class="faint">
                · {{ t('on its way') }}</span
              ></p
            >
            <p v-for="(reason, n) in change.reasons" :key="n" class="wrong"
              >{{ titleOf(change, reason) }}{{ why(reason) }}</p
            >
            <FromTo :of="definition(one.collection)" :fields="change.fields" />
            <div class="acts">
              <RouterLink v-if="change.answer" :to="`/records/${one.collection}/${one.record}`" class="btn">{{
                t('Mend it')
              }}</RouterLink>
              <button
                v-else-if="!change.sent && change === one.changes.at(-1)"
                type="button"
                class="btn"
                @click="takeBack(change)"
                ><IconSign name="undo" />{{ t('Take back') }}<span class="hidden"> {{ one.label }}</span></button
              >
            </div>
          </div>
        </li>
      </ul>
      <button v-if="records.length > shownMost" type="button" class="btn" @click="shownMost += most">{{
        t('Show more')
      }}</button>
    </section>

    <section v-if="log.length">
      <details
        ><summary>{{ t('Past exchanges') }}</summary>
        <ul class="sheet rows">
          <li v-for="one in log.slice(0, 50)" :key="one.startedAt" class="padded past">
            <p class="small"
              ><b>{{ moment(one.startedAt) }}</b> <span class="faint">{{ ago(one.startedAt) }}</span></p
            >
            <p v-if="one.error" class="small warn">{{ t('Broke off: {why}', { why: one.error }) }}</p>
            <p class="small">{{
              [tn(one.summary.sent, '{n} sent|{n} sent'), ...told(one.summary).map((part) => part.text)].join(' · ')
            }}</p>
          </li>
        </ul></details
      >
    </section>
  </div>
</template>

<style scoped>
section,
.list {
  display: grid;
  gap: 0.6rem;
}
.about {
  display: grid;
  min-height: 44px;
  align-content: center;
}
.change {
  display: grid;
  gap: 0.5rem;
  border-top: 1px solid var(--line);
  padding-top: 0.6rem;
}
.what {
  display: flex;
  flex-wrap: wrap;
  gap: 0.2rem 0.6rem;
  align-items: center;
}
.acts:empty {
  display: none;
}
summary {
  min-height: 44px;
  display: flex;
  align-items: center;
  color: var(--accent);
  text-decoration: underline;
  cursor: pointer;
}
.past {
  gap: 0.2rem;
}
</style>
