<script setup lang="ts">
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import Select from 'primevue/select'
import { useToast } from 'primevue/usetoast'
import { ref } from 'vue'
import { api, ask, type Conflict, type SettledOne } from '../api/client'
import { useCollections } from '../collections'
import { ago, fullTime, plural, shown } from '../format'
import { useKey } from '../ids'
import { useHeads } from '../live'
import { usePage } from '../page'
import EmptyNote from '../parts/EmptyNote.vue'
import FieldInput from '../parts/FieldInput.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { useSession } from '../session'

const toast = useToast()
const { mayEdit } = useSession()
const { collections, load, find } = useCollections()
const conflicts = ref<Conflict[]>()
const other = ref<Conflict>()
const value = ref<unknown>()

const { problem, refresh } = usePage(async () => {
  if (!collections.value) await load()
  conflicts.value = (await ask(api.GET('/v1/conflicts'))) ?? []
})
useHeads(refresh)

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
  return to === undefined ? '(no value)' : shown(fieldOf(c), to)
}

// Many at once, by a rule: what would be done is shown first.
const rules = [
  { label: 'the value edited last', value: 'newest' },
  { label: 'what central has', value: 'first' },
  { label: 'the smallest', value: 'min' },
  { label: 'the largest', value: 'max' },
]
const rule = ref<'newest' | 'first' | 'min' | 'max'>('newest')
const plan = ref<SettledOne[]>()
const working = ref(false)
async function byRule(preview: boolean) {
  working.value = true
  try {
    const all = (await ask(api.POST('/v1/conflicts/settlements-by-rule', { body: { rule: rule.value, preview } }))) ?? []
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
  try {
    const body = { collection: c.collection, record: c.record, field: c.field, base: c.revision, value: to ?? null }
    await key.send(body, (under) => ask(api.POST('/v1/conflicts/settlements', { params: { header: { 'Idempotency-Key': under } }, body })))
    toast.add({ severity: 'success', summary: 'Settled', detail: `${titleOf(c)} of ${c.label}`, life: 4000 })
    other.value = undefined
  } catch (error) {
    toast.add({ severity: 'error', summary: 'Not settled', detail: (error as Error).message, life: 9000 })
  }
  await refresh()
}
function another(c: Conflict) {
  value.value = c.values?.[0]?.value
  other.value = c
}
</script>

<template>
  <div class="page">
    <div class="head"
      ><h1>Conflicts</h1
      ><span class="faint" role="status">{{
        conflicts ? `${plural(conflicts.length, 'field')} ${conflicts.length === 1 ? 'waits' : 'wait'} for a person` : ''
      }}</span></div
    >
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh" />
    <form v-if="mayEdit && conflicts && conflicts.length > 1" class="many" @submit.prevent="byRule(true)">
      <label for="by-rule">Settle all, taking</label>
      <Select v-model="rule" input-id="by-rule" :options="rules" option-label="label" option-value="value" size="small" />
      <Button type="submit" label="Show what that does" size="small" severity="secondary" :loading="working" />
    </form>
    <Dialog :visible="!!plan" modal header="Settle all by a rule" :style="{ width: 'min(44rem, 94vw)' }" @update:visible="plan = undefined">
      <ul class="plan">
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
    <EmptyNote v-if="conflicts && !conflicts.length" title="Nothing waits for a person"
      >Where a definition says <code>ask</code>, two edits that meet are held here until somebody settles them.</EmptyNote
    >
    <section v-for="c in conflicts" :key="`${c.record} ${c.field}`" class="sheet padded conflict">
      <div class="top">
        <div
          ><b>{{ titleOf(c) }}</b> of <RouterLink :to="{ name: 'record', params: { collection: c.collection, id: c.record } }">{{ c.label }}</RouterLink></div
        >
        <span class="faint" :title="fullTime(c.opened_at)">open since {{ ago(c.opened_at) }}</span>
      </div>
      <p v-if="c.base !== undefined && c.field !== removal" class="faint">It was {{ shown(fieldOf(c), c.base) }}.</p>
      <div class="values">
        <div v-for="(v, n) in c.values" :key="v.revision" class="value">
          <div class="what">{{ valueOf(c, v.value) }}</div>
          <div class="faint">{{ v.author }} {{ v.device ? `on ${v.device}` : 'at central' }}, {{ fullTime(v.edited_at) }}</div>
          <div class="faint">{{ n === 0 ? 'came first, and stands meanwhile' : 'is held' }}</div>
          <Button
            v-if="mayEdit"
            :label="n === 0 ? 'Keep this' : 'Take this'"
            size="small"
            :severity="n === 0 ? 'secondary' : undefined"
            @click="settle(c, v.value)"
          />
        </div>
      </div>
      <Button v-if="mayEdit && fieldOf(c)" label="Another value…" size="small" text @click="another(c)" />
    </section>
    <Dialog
      :visible="!!other"
      modal
      :header="other ? `${titleOf(other)} of ${other.label}` : ''"
      :style="{ width: 'min(28rem, 94vw)' }"
      @update:visible="other = undefined"
    >
      <form v-if="other && fieldOf(other)" class="form" @submit.prevent="settle(other, value)">
        <label :for="other.field">{{ titleOf(other) }}<FieldInput v-model="value" :field="fieldOf(other)!" /></label>
        <div class="actions"
          ><Button type="submit" label="Settle" size="small" /><Button label="Cancel" severity="secondary" size="small" @click="other = undefined"
        /></div>
      </form>
    </Dialog>
  </div>
</template>

<style scoped>
.conflict {
  margin-bottom: 1rem;
}
.many {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.5rem 0.7rem;
  margin-bottom: 1rem;
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
.conflict p {
  margin: 0.3rem 0 0;
}
.values {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(15rem, 1fr));
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
</style>
