<script setup lang="ts">
import Select from 'primevue/select'
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import { api, ask, type Conflict, type Device, type Territory } from '../api/client'
import { useCollections } from '../collections'
import { ago, clock, fullTime, plural } from '../format'
import { useDeviceEvents, useHeads } from '../live'
import { usePage } from '../page'
import EmptyNote from '../parts/EmptyNote.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { useSession } from '../session'

const StackedChart = defineAsyncComponent(() => import('../parts/StackedChart.vue'))

const { mayManageWorkers } = useSession()
const { collections, load } = useCollections()
const devices = ref<Device[]>()
const conflicts = ref<Conflict[]>([])
const open = ref(0)
const territories = ref<Territory[]>([])
const arrivals = ref<{ from: string; collection: string; changes: number }[]>([])

const hours = 3_600_000
const spans = [
  { label: 'the last 24 hours', span: hours, count: 24 },
  { label: 'the last 7 days', span: 24 * hours, count: 7 },
  { label: 'the last 30 days', span: 24 * hours, count: 30 },
]
const looked = ref(spans[0]!)
/** Where the first column begins: at a full hour, or at midnight here. */
function beginning(): number {
  const now = new Date()
  if (looked.value.span === hours) return Math.floor(now.getTime() / hours) * hours - (looked.value.count - 1) * hours
  now.setHours(0, 0, 0, 0)
  return now.getTime() - (looked.value.count - 1) * 24 * hours
}
const first = ref(beginning())

const { problem, refresh } = usePage(async (counts) => {
  const since = beginning()
  const [all, waiting, number, held, arrived] = await Promise.all([
    ask(api.GET('/v1/devices')),
    ask(api.GET('/v1/conflicts', { params: { query: { limit: 200 } } })),
    ask(api.GET('/v1/conflicts/count')),
    mayManageWorkers.value ? ask(api.GET('/v1/territories')) : [],
    ask(api.GET('/v1/accepted/counts', { params: { query: { since: new Date(since).toISOString(), span: looked.value.span / 1000 } } })),
    load(),
  ])
  if (!counts()) return
  devices.value = all ?? []
  conflicts.value = waiting ?? []
  open.value = number.open
  territories.value = held ?? []
  arrivals.value = arrived ?? []
  first.value = since
})
useHeads(() => refresh())
useDeviceEvents(() => refresh())
watch(looked, () => refresh())

const working = computed(() => (devices.value ?? []).filter((d) => !d.revoked_at))
const day = 86_400_000
const age = (text?: string) => (text ? Date.now() - new Date(text).getTime() : Infinity)
const contact = computed(() => {
  const groups = [
    { label: 'in the last hour', most: hours, seen: 'hour' },
    { label: 'today', most: day, seen: 'day' },
    { label: 'this week', most: 7 * day, seen: 'week' },
    { label: 'longer ago', most: Infinity, seen: 'longer' },
  ]
  let from = 0
  const counted = groups.map(({ label, most, seen }) => {
    const n = working.value.filter((d) => d.seen_at && age(d.seen_at) >= from && age(d.seen_at) < most).length
    from = most
    return { label, n, seen }
  })
  return [...counted, { label: 'never', n: working.value.filter((d) => !d.seen_at).length, seen: 'never' }]
})
const sum = (key: 'unsent' | 'refused' | 'waiting') => working.value.reduce((total, d) => total + (d[key] ?? 0), 0)
const withAny = (key: 'unsent' | 'refused' | 'waiting') => working.value.filter((d) => d[key]).length
const wrongClocks = computed(() => working.value.filter((d) => clock(d.offset_ms, d.error_ms).wrong))
const oldest = computed(() => conflicts.value[0])
const aged = computed(() => [
  { label: 'today', n: conflicts.value.filter((c) => age(c.opened_at) < day).length },
  { label: 'this week', n: conflicts.value.filter((c) => age(c.opened_at) >= day && age(c.opened_at) < 7 * day).length },
  { label: 'older', n: conflicts.value.filter((c) => age(c.opened_at) >= 7 * day).length },
])
const uncovered = computed(() => territories.value.filter((t) => !t.workers?.length && Object.keys(t.records).length))
const quiet = computed(() => [...(collections.value ?? [])].sort((a, b) => age(b.last_change) - age(a.last_change)))

const hour = new Intl.DateTimeFormat(undefined, { hour: '2-digit', minute: '2-digit' })
const date = new Intl.DateTimeFormat(undefined, { month: 'short', day: 'numeric' })
const when = (at: number) => (looked.value.span >= 24 * hours ? date : hour).format(new Date(at))
const times = computed(() => Array.from({ length: looked.value.count }, (_, n) => first.value + n * looked.value.span))
/** What some collections together come to in each span. */
function part(name: string, of: (collection: string) => boolean) {
  const values = times.value.map(() => 0)
  for (const a of arrivals.value.filter((one) => of(one.collection))) {
    const at = Math.round((new Date(a.from).getTime() - first.value) / looked.value.span)
    if (at >= 0 && at < values.length) values[at]! += a.changes
  }
  return { name, values }
}
/** Columns of more parts than there are colours tell nobody which is which: of many collections, those with the least are one part together. */
const most = 8
const series = computed(() => {
  const titles = new Map((collections.value ?? []).map((c) => [c.collection, c.title]))
  const totals = new Map<string, number>()
  for (const a of arrivals.value) totals.set(a.collection, (totals.get(a.collection) ?? 0) + a.changes)
  const shown = [...totals].sort((a, b) => b[1] - a[1]).map(([name]) => name)
  const others = new Set(shown.length > most ? shown.splice(most - 1) : [])
  const all = shown.sort().map((name) => part(titles.get(name) ?? name, (one) => one === name))
  return others.size ? [...all, part(plural(others.size, 'other'), (one) => others.has(one))] : all
})
const arrived = computed(() => arrivals.value.reduce((total, a) => total + a.changes, 0))
</script>

<template>
  <div class="page">
    <div class="head"><h1>Overview</h1><span v-if="devices" class="faint">is the fleet well?</span></div>
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh()" />
    <div v-if="devices" class="grid">
      <section class="sheet padded wide">
        <div class="top">
          <h2>{{ plural(arrived, 'change') }} arrived in <label for="span" class="hidden">Span of time</label></h2>
          <Select v-model="looked" input-id="span" aria-label="Span of time" :options="spans" option-label="label" size="small" />
        </div>
        <StackedChart v-if="arrived" :labels="times.map(when)" :series="series" :aria-label="`Changes in ${looked.label}, by collection`" role="img" />
        <EmptyNote v-else :title="`No change has arrived in ${looked.label}`"
          >What devices bring, and what is edited here, shows as a column for each span of time.</EmptyNote
        >
      </section>

      <section class="sheet padded">
        <h2>Devices by last contact</h2>
        <EmptyNote v-if="!devices.length" title="No device is enrolled yet"><RouterLink to="/devices">Enrol the first one</RouterLink></EmptyNote>
        <ul v-else class="bars">
          <li v-for="g in contact" :key="g.seen">
            <RouterLink :to="{ name: 'devices', query: { seen: g.seen } }">{{ g.label }}</RouterLink>
            <span class="bar" aria-hidden="true"
              ><i :class="{ old: g.seen === 'longer' || g.seen === 'never' }" :style="{ width: `${(100 * g.n) / Math.max(1, working.length)}%` }"
            /></span>
            <b>{{ g.n }}</b>
          </li>
        </ul>
      </section>

      <section class="sheet padded">
        <h2>What waits on devices, as they last said</h2>
        <ul class="figures">
          <li>
            <RouterLink :to="{ name: 'devices', query: { owes: 'unsent' } }"
              ><b>{{ sum('unsent').toLocaleString() }}</b> not sent yet</RouterLink
            ><span class="faint">on {{ plural(withAny('unsent'), 'device') }}</span>
          </li>
          <li :class="{ bad: sum('refused') }">
            <RouterLink :to="{ name: 'devices', query: { owes: 'refused' } }"
              ><b>{{ sum('refused').toLocaleString() }}</b> refused, to be mended</RouterLink
            ><span class="faint">on {{ plural(withAny('refused'), 'device') }}</span>
          </li>
          <li>
            <RouterLink :to="{ name: 'devices', query: { owes: 'waiting' } }"
              ><b>{{ sum('waiting').toLocaleString() }}</b> waiting for another change</RouterLink
            ><span class="faint">on {{ plural(withAny('waiting'), 'device') }}</span>
          </li>
          <li :class="{ bad: wrongClocks.length }">
            <RouterLink :to="{ name: 'devices', query: { owes: 'clock' } }"
              ><b>{{ wrongClocks.length }}</b> with a wrong clock</RouterLink
            ><span class="faint">{{ wrongClocks.length ? 'corrected by central' : 'all others are right' }}</span>
          </li>
        </ul>
      </section>

      <section class="sheet padded">
        <h2>Conflicts that wait for a person</h2>
        <p v-if="!open" class="faint">None. Where two edits meet under the rule <code>ask</code>, they wait here.</p>
        <template v-else>
          <p class="large"
            ><RouterLink to="/conflicts"
              ><b>{{ open.toLocaleString() }}</b> open</RouterLink
            >{{ ' ' }}<span v-if="oldest" class="faint">the oldest since {{ ago(oldest.opened_at) }}: {{ oldest.label }}</span></p
          >
          <ul class="bars">
            <li v-for="g in aged" :key="g.label">
              <span>{{ g.label }}</span>
              <span class="bar" aria-hidden="true"
                ><i :class="{ old: g.label === 'older' }" :style="{ width: `${(100 * g.n) / Math.max(1, conflicts.length)}%` }"
              /></span>
              <b>{{ g.n }}</b>
            </li>
          </ul>
        </template>
      </section>

      <section class="sheet padded">
        <h2>Collections, the quietest first</h2>
        <ul class="lines">
          <li v-for="c in quiet" :key="c.collection">
            <RouterLink :to="{ name: 'records', params: { collection: c.collection } }">{{ c.title }}</RouterLink>
            <span>{{ plural(c.records, 'record') }}</span>
            <span class="faint" :title="fullTime(c.last_change)">{{ c.last_change ? `changed ${ago(c.last_change)}` : 'no change yet' }}</span>
          </li>
        </ul>
        <p v-if="!quiet.length" class="faint">Nothing is defined yet.</p>
      </section>

      <section v-if="mayManageWorkers && territories.length" class="sheet padded">
        <h2>Territories</h2>
        <p v-if="uncovered.length" class="bad"
          >Nobody holds {{ uncovered.map((t) => t.key).join(', ') }}: only who covers everything gets them. <RouterLink to="/people">People</RouterLink></p
        >
        <p v-else class="faint">Each of the {{ territories.length }} with records is covered by somebody.</p>
        <ul class="lines">
          <li v-for="t in territories" :key="t.key">
            <span>{{ t.key }}</span>
            <span
              >{{
                Object.values(t.records)
                  .reduce((total, n) => total + n, 0)
                  .toLocaleString()
              }}
              records</span
            >
            <span :class="t.workers?.length ? 'faint' : 'bad'">{{ t.workers?.join(', ') || 'nobody' }}</span>
          </li>
        </ul>
      </section>
    </div>
  </div>
</template>

<style scoped>
.grid {
  display: grid;
  grid-template-columns: repeat(3, minmax(0, 1fr));
  gap: 1rem;
  align-items: start;
}
.wide {
  grid-column: 1 / -1;
}
.top {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.3rem 0.6rem;
  margin-bottom: 0.4rem;
}
.top h2 {
  margin: 0;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  gap: 0.35rem;
}
.bars li {
  display: grid;
  grid-template-columns: 7.5rem 1fr 2.5rem;
  gap: 0.6rem;
  align-items: center;
}
.bars b {
  text-align: right;
}
.bar {
  height: 0.6rem;
  border-radius: 3px;
  background: var(--line);
  overflow: hidden;
}
.bar i {
  display: block;
  height: 100%;
  background: var(--accent);
}
.bar i.old {
  background: var(--bad);
}
.figures li {
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
  gap: 0.1rem 0.8rem;
}
.figures .bad a {
  color: var(--bad);
}
.lines {
  max-height: 15rem;
  overflow-y: auto;
}
.lines li {
  display: grid;
  grid-template-columns: 1.2fr 0.9fr 1.2fr;
  gap: 0.2rem 0.7rem;
}
.lines li > :last-child {
  text-align: right;
}
.large {
  margin: 0 0 0.6rem;
}
.large b {
  font-size: 1.3rem;
}
@media (max-width: 1000px) {
  .grid {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
