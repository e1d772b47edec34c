<script setup lang="ts">
import Button from 'primevue/button'
import ProgressBar from 'primevue/progressbar'
import ToggleSwitch from 'primevue/toggleswitch'
import { computed, onUnmounted, ref } from 'vue'
import { api, ask, type Definition, type Rehearsal } from '../api/client'
import { useCollections } from '../collections'
import { plural } from '../format'

/** Lets simulated fleets work with the definitions, one seed after the other, and sums up what came of it. */
const props = defineProps<{ definition?: Definition }>()
const { find } = useCollections()

const seeds = 10
const calm = ref(false)
const runs = ref<Rehearsal[]>([])
const working = ref(false)
const wrong = ref('')
const stopped = ref(false)
onUnmounted(() => (stopped.value = true))

async function rehearse() {
  runs.value = []
  wrong.value = ''
  stopped.value = false
  working.value = true
  const body = { calm: calm.value, definition: props.definition }
  try {
    for (let seed = 1; seed <= seeds && !stopped.value; seed++) runs.value.push(await ask(api.POST('/v1/rehearsals', { body: { ...body, seed } })))
  } catch (error) {
    wrong.value = (error as Error).message
  }
  working.value = false
}
const stop = () => (stopped.value = true)

const sum = (of: (r: Rehearsal) => number) => runs.value.reduce((all, r) => all + of(r), 0)
const total = (of: 'answers' | 'refused') => {
  const all: Record<string, number> = {}
  for (const r of runs.value) for (const [name, n] of Object.entries(r[of] ?? {})) all[name] = (all[name] ?? 0) + n
  return Object.entries(all).sort((a, b) => b[1] - a[1])
}
const decided = computed(() => {
  const all = new Map<string, { collection: string; field: string; rule: string; count: number }>()
  for (const d of runs.value.flatMap((r) => r.decisions ?? [])) {
    const key = `${d.collection} ${d.field} ${d.rule}`
    all.set(key, { ...d, count: d.count + (all.get(key)?.count ?? 0) })
  }
  return [...all.values()].sort((a, b) => b.count - a.count).slice(0, 12)
})
const broken = computed(() => runs.value.flatMap((r) => (r.wrong ?? []).map((text) => ({ seed: r.seed, text }))))
const fieldTitle = (collection: string, field: string) => find(collection)?.fields?.find((f) => f.name === field)?.title ?? field
</script>

<template>
  <section class="sheet padded">
    <h2>Rehearse {{ definition ? 'with this file' : 'the definitions' }}</h2>
    <p class="faint"
      >Simulated crews work on made-up records: requests are lost, repeated and cut, devices killed and restored, clocks turned. In the end everything that they
      saved is held against what there is. Nothing that is stored here is read or changed.</p
    >
    <div class="actions">
      <Button :label="`Rehearse ${seeds} times`" icon="pi pi-play" size="small" severity="secondary" :loading="working" @click="rehearse" />
      <Button v-if="working" label="Stop" size="small" text @click="stop" />
      <label class="check"
        ><ToggleSwitch v-model="calm" input-id="calm" :disabled="working" /><span>Calm days: signal is rare, nothing else goes wrong</span></label
      >
    </div>
    <ProgressBar v-if="working" :value="Math.round((100 * runs.length) / seeds)" aria-label="Rehearsed" class="bar-of" />
    <div role="status" aria-live="polite">
      <p v-if="wrong" class="bad">{{ wrong }}</p>
      <template v-if="runs.length && !working">
        <p v-if="broken.length" class="bad"><b>Something is against a promise:</b></p>
        <p v-else class="good"><b>Nothing was lost, nothing doubled, nothing overwritten without a trace; all agree.</b></p>
        <ul v-if="broken.length" class="bad"
          ><li v-for="(b, n) in broken" :key="n">seed {{ b.seed }}: {{ b.text }}</li></ul
        >
        <p
          >{{ plural(runs.length, 'run') }}:
          {{
            plural(
              sum((r) => r.saves),
              'save',
            )
          }},
          {{
            plural(
              sum((r) => r.exchanges),
              'exchange',
            )
          }},
          {{
            plural(
              sum((r) => r.faults),
              'fault',
            )
          }}. Answers:
          {{
            total('answers')
              .map(([name, n]) => `${n.toLocaleString()} ${name}`)
              .join(', ')
          }}.</p
        >
      </template>
    </div>
    <table v-if="decided.length && !working" class="plain">
      <caption class="faint">Where edits met, and what decided</caption>
      <thead>
        <tr><th>Collection</th><th>Field</th><th>Rule</th><th class="times">Times</th></tr>
      </thead>
      <tbody>
        <tr v-for="d in decided" :key="`${d.collection} ${d.field} ${d.rule}`">
          <td>{{ find(d.collection)?.title ?? d.collection }}</td>
          <td>{{ d.field ? fieldTitle(d.collection, d.field) : '(removal)' }}</td>
          <td>{{ d.rule }}<span v-if="d.rule === 'ask'" class="warn"> held for a person</span></td>
          <td class="times">{{ d.count.toLocaleString() }}</td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
p {
  margin: 0 0 0.6rem;
  max-width: 52rem;
}
.actions {
  align-items: center;
}
.check {
  display: flex;
  gap: 0.6rem;
  align-items: center;
}
.bar-of,
.plain {
  margin-top: 0.8rem;
}
caption {
  text-align: left;
  padding: 0 0.8rem;
}
.times {
  text-align: right;
}
</style>
