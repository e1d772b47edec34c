<script setup lang="ts">
import type { Delta, HistoryEntry, Overview } from '../api/client'
import { fullTime, shown } from '../format'

const props = defineProps<{ entries: HistoryEntry[]; collection: Overview; mayBringBack?: boolean }>()
const emit = defineEmits<{ bringBack: [revision: number]; reopen: [field: string] }>()

const fieldOf = (name: string) => props.collection.fields?.find((f) => f.name === name)
const titleOf = (name?: string) => (name ? (fieldOf(name)?.title ?? name) : 'The removal')
const deltaOf = (entry: HistoryEntry) => Object.entries((entry.fields ?? {}) as Delta)
const verbs: Record<string, string> = { add: 'added', edit: 'edited', remove: 'removed' }
/** A removal that met an edit may not have gone through. */
const stayed = (entry: HistoryEntry) => entry.kind === 'remove' && (entry.decisions ?? []).some((d) => !d.field && d.kept === 'central')
/** What the change wanted a field to be, where something else came out. */
function wanted(entry: HistoryEntry, field?: string) {
  const edit = field === undefined ? undefined : ((entry.sent ?? {}) as Delta)[field]
  return edit && (edit.to === undefined ? '(none)' : shown(fieldOf(field!), edit.to))
}
const ruleText = { change: 'this change was taken', central: 'what central had was kept', both: 'both came together' } as Record<string, string>
const differs = (entry: HistoryEntry) => Math.abs(new Date(entry.edited_device).getTime() - new Date(entry.edited_at).getTime()) > 2000
</script>

<template>
  <ol class="trail">
    <li v-for="(entry, n) in entries" :key="entry.revision" :class="stayed(entry) ? 'edit' : entry.kind">
      <div class="top">
        <b>Revision {{ entry.revision }}</b>
        <span
          >{{ stayed(entry) ? 'removal asked for' : verbs[entry.kind] }} by <b>{{ entry.author }}</b>
          {{ entry.device ? `on ${entry.device}` : 'at central' }}</span
        >
      </div>
      <div class="faint when">
        {{ fullTime(entry.edited_at) }}<span v-if="entry.uncertainty_ms > 1000"> ± {{ Math.round(entry.uncertainty_ms / 1000) }} s</span>
        <span v-if="differs(entry)"> · by the device's clock {{ fullTime(entry.edited_device) }}</span>
        <span v-if="entry.device"> · received {{ fullTime(entry.received_at) }}</span>
      </div>
      <dl v-if="deltaOf(entry).length">
        <template v-for="[name, edit] in deltaOf(entry)" :key="name">
          <dt>{{ fieldOf(name)?.title ?? name }}</dt>
          <dd>
            <template v-if="entry.kind !== 'add'"
              ><del v-if="edit.from !== undefined">{{ shown(fieldOf(name), edit.from) }}</del
              ><span v-else class="faint">(none)</span> →
            </template>
            <ins v-if="edit.to !== undefined">{{ shown(fieldOf(name), edit.to) }}</ins><span v-else class="faint">(none)</span>
          </dd>
        </template>
      </dl>
      <button v-if="mayBringBack && n > 0 && entry.kind !== 'remove'" type="button" class="back" @click="emit('bringBack', entry.revision)"
        >Bring this back</button
      >
      <p v-for="(decision, k) in entry.decisions ?? []" :key="k" class="decision">
        <template v-if="decision.rule === 'settled'"
          >{{ titleOf(decision.field) }} was in dispute; this change settled it.
          <button v-if="mayBringBack" type="button" class="back" @click="emit('reopen', decision.field ?? 'record-removal')">Open it again</button></template
        >
        <template v-else-if="decision.rule === 'reopened'">The dispute over {{ titleOf(decision.field) }} was opened again.</template>
        <template v-else>
          {{ titleOf(decision.field) }} met revision {{ decision.other.revision }}: by the rule <i>{{ decision.rule }}</i>,
          {{ decision.rule === 'ask' ? 'it is held for a person' : ruleText[decision.kept] }}.
          <template v-if="decision.kept === 'central' && wanted(entry, decision.field)"
            >It asked for <b>{{ wanted(entry, decision.field) }}</b>.</template
          >
        </template>
      </p>
    </li>
  </ol>
</template>

<style scoped>
.back {
  background: none;
  border: 0;
  padding: 0;
  margin-top: 0.2rem;
  color: var(--accent);
  font: inherit;
  font-size: 0.88rem;
  cursor: pointer;
}
.back:hover {
  text-decoration: underline;
}
.trail {
  list-style: none;
  margin: 0;
  padding: 0 0 0 1.4rem;
  position: relative;
}
.trail::before {
  content: '';
  position: absolute;
  left: 0.42rem;
  top: 0.5rem;
  bottom: 0.5rem;
  border-left: 2px dotted var(--p-surface-400);
}
li {
  position: relative;
  padding-bottom: 1.1rem;
}
li::before {
  content: '';
  position: absolute;
  left: -1.36rem;
  top: 0.3rem;
  width: 0.8rem;
  height: 0.8rem;
  border-radius: 50%;
  background: var(--sheet);
  border: 3px solid var(--p-surface-400);
}
li:first-child::before {
  border-color: var(--accent);
}
li.remove::before {
  border-color: var(--bad);
  border-radius: 2px;
}
.top {
  display: flex;
  flex-wrap: wrap;
  gap: 0.2rem 0.7rem;
}
.when {
  font-size: 0.86rem;
}
dl {
  display: grid;
  grid-template-columns: minmax(6rem, max-content) 1fr;
  gap: 0.1rem 0.8rem;
  margin: 0.35rem 0 0;
  font-size: 0.93rem;
}
dt {
  color: var(--faint);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
del {
  color: var(--faint);
}
ins {
  text-decoration: none;
}
.decision {
  margin: 0.35rem 0 0;
  font-size: 0.9rem;
  padding-left: 0.6rem;
  border-left: 3px solid var(--warn);
}
</style>
