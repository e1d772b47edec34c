<script setup lang="ts">
import { watchDebounced } from '@vueuse/core'
import Button from 'primevue/button'
import { useConfirm } from 'primevue/useconfirm'
import { useToast } from 'primevue/usetoast'
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import { onBeforeRouteLeave, onBeforeRouteUpdate, useRoute, useRouter } from 'vue-router'
import { api, ask, type Definition, type Field, type Overview, type ReadFile } from '../api/client'
import { given, useCollections } from '../collections'
import { schemaOf } from '../../../faces/schema'
import { plural } from '../format'
import { useHeads } from '../live'
import { usePage } from '../page'
import EmptyNote from '../parts/EmptyNote.vue'
import RehearsePanel from '../parts/RehearsePanel.vue'
import TryMerge from '../parts/TryMerge.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { setTitle } from '../router'
import { useSession } from '../session'

const DefinitionEditor = defineAsyncComponent(() => import('../parts/DefinitionEditor.vue'))

const route = useRoute()
const router = useRouter()
const toast = useToast()
const confirm = useConfirm()
const { mayManageWorkers: mayDefine } = useSession()
const { collections, load, find } = useCollections()
const name = computed(() => String(route.params.collection ?? ''))
const collection = computed(() => find(name.value) ?? (name.value ? undefined : collections.value?.[0]))

const { problem, loading, refresh } = usePage(async () => {
  await load()
  if (collection.value) setTitle(`${collection.value.title}: definition`)
})
useHeads(() => refresh())

/** A collection without what central counts of it. */
function definitionOf(c: Overview): Definition {
  const { head: _head, records: _records, removed: _removed, last_change: _last, ...definition } = c
  return definition
}

/** What a field holds, in words. */
function kind(f: Field): string {
  const s = schemaOf(f) as Record<string, unknown>
  const words: string[] = []
  if (f.reference) words.push(`a record of ${find(f.reference)?.title ?? f.reference}`)
  else if (Array.isArray(s.enum)) words.push(`one of ${s.enum.map(String).join(', ')}`)
  else if (s.$ref === 'urn:homing:point') words.push('a place')
  else if (s.$ref === 'urn:homing:line') words.push('a line')
  else if (s.format === 'date') words.push('a date')
  else if (s.format === 'date-time') words.push('a time')
  else
    words.push(
      { string: 'text', number: 'a number', integer: 'a whole number', boolean: 'yes or no', array: 'a list', object: 'parts' }[String(s.type)] ?? 'anything',
    )
  if (s.unit) words.push(`in ${String(s.unit)}`)
  if (s.minimum !== undefined) words.push(`from ${String(s.minimum)}`)
  if (s.maximum !== undefined) words.push(`up to ${String(s.maximum)}`)
  if (s.maxLength !== undefined) words.push(`at most ${String(s.maxLength)} characters`)
  if (s.pattern !== undefined) words.push(`of the form ${String(s.pattern)}`)
  return words.join(' ')
}
const from = (f: Field) => (f.computed ? `= ${f.computed}` : f.filled ? `= ${f.filled}` : f.series ? `the next after ${f.series}` : '')
const rules: Record<string, string> = {
  newest: 'the later edit stands',
  first: 'what came first stands',
  ask: 'a person decides',
  sum: 'both are added up',
  min: 'the smaller stands',
  max: 'the larger stands',
  union: 'both are kept in the list',
  append: 'both texts are kept',
}
const ruleOf = (f: Field) => collection.value?.sync.rules?.[f.name] ?? (given(f) ? '' : 'newest')
const removals: Record<string, string> = {
  'edit-stays': 'the edit stays, and the record with it',
  'removal-stays': 'the removal stays',
  ask: 'a person decides',
}
const rest = computed(() => {
  const c = collection.value
  if (!c) return []
  const access = c.access ?? {}
  const lines: [string, string, boolean?][] = [
    ['Called', c.label ?? '', true],
    ['Key', c.key ? `${c.key}${c.unique ? ', each once' : ''}` : 'none'],
    ['Belongs to', c.parent ? `${find(c.parent.collection)?.title ?? c.parent.collection}, by ${c.parent.field}` : 'nothing'],
    ['Falls into', c.sync.territory || 'no territory: everybody covers it', !!c.sync.territory],
    [
      'On devices',
      [c.sync.keep || 'always kept', c.sync.direction && c.sync.direction !== 'both' ? `goes ${c.sync.direction} only` : ''].filter(Boolean).join(', '),
    ],
    ['A removal that meets an edit', removals[c.sync.removal ?? 'edit-stays'] ?? String(c.sync.removal)],
    ['Quick lists by', c.lists?.join(', ') || 'nothing'],
    ['Searches', c.searched ? 'by an index' : 'through all records'],
  ]
  for (const act of ['read', 'add', 'edit', 'remove'] as const) {
    lines.push([`Who may ${act}`, access[act] || (act === 'read' ? 'whoever covers the record' : 'workers, leads and admins who cover it'), !!access[act]])
  }
  return lines
})

// Writing.
const editing = ref(false)
const text = ref('')
const original = ref('')
const read = ref<ReadFile>()
const working = ref(false)
const fresh = 'collection: \ntitle: \nlabel: "{name}"\nrequired: [name]\nfields:\n  name: {type: string, minLength: 1}\n'

async function startEditing(anew: boolean) {
  try {
    text.value = anew
      ? fresh
      : (await ask(api.GET('/v1/definitions/{collection}/file', { params: { path: { collection: collection.value!.collection } } }))).text
    original.value = text.value
    read.value = undefined
    editing.value = true
    check()
  } catch (error) {
    toast.add({ severity: 'error', summary: 'Not opened', detail: (error as Error).message, life: 9000 })
  }
}
let latest = 0
watch(text, () => (read.value = read.value && { ...read.value, plan: undefined }))
watchDebounced(text, check, { debounce: 350 })
async function check() {
  const mine = ++latest
  const got = await ask(api.POST('/v1/definitions/file', { body: { text: text.value } })).catch((error: Error) => ({ wrong: error.message }) as ReadFile)
  if (mine === latest) read.value = got
}
const plan = computed(() => read.value?.plan)
const breaks = computed(() => (plan.value?.broken ?? []).length > 0)
async function define() {
  if (!read.value?.definition || !plan.value) return
  working.value = true
  try {
    await ask(api.PUT('/v1/definitions', { body: { definitions: [read.value.definition as Definition] } }))
    const at = read.value.definition.collection
    toast.add({ severity: 'success', summary: 'Defined', detail: `${at}, version ${plan.value.version}. Devices follow with their next exchange.`, life: 6000 })
    editing.value = false
    await refresh()
    router.push({ name: 'definitions', params: { collection: at } })
  } catch (error) {
    toast.add({ severity: 'error', summary: 'Not defined', detail: (error as Error).message, life: 12000 })
  }
  working.value = false
}
/** Whether the text may go, where it was changed. */
function leave(): boolean | Promise<boolean> {
  if (!editing.value || text.value === original.value) return true
  return new Promise((resolve) =>
    confirm.require({
      header: 'Throw away what you typed?',
      message: 'The definition is not saved yet.',
      acceptLabel: 'Throw away',
      rejectLabel: 'Go on typing',
      acceptProps: { severity: 'danger' },
      rejectProps: { severity: 'secondary' },
      accept: () => resolve(true),
      reject: () => resolve(false),
      onHide: () => resolve(false),
    }),
  )
}
onBeforeRouteLeave(leave)
onBeforeRouteUpdate(leave)
async function cancel() {
  if (await leave()) editing.value = false
}
</script>

<template>
  <div class="page">
    <div class="tabs" role="navigation" aria-label="Collections">
      <RouterLink
        v-for="c in collections"
        :key="c.collection"
        :to="{ name: 'definitions', params: { collection: c.collection } }"
        :class="{ here: c.collection === collection?.collection }"
        >{{ c.title }}</RouterLink
      >
    </div>
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh" />
    <template v-if="editing">
      <div class="head"
        ><h1>{{ original === fresh ? 'A new collection' : `${collection?.title}: the file` }}</h1></div
      >
      <div class="columns write">
        <DefinitionEditor v-model="text" :wrong="read?.wrong" :line="read?.line" />
        <section class="sheet padded" aria-live="polite">
          <h2>What defining it would do</h2>
          <p v-if="!read" class="faint">Reading…</p>
          <p v-else-if="read.wrong" class="bad"
            ><template v-if="read.line">Line {{ read.line }}: </template>{{ read.wrong }}</p
          >
          <template v-else-if="plan">
            <p v-if="plan.outcome === 'unchanged'">Nothing: it is as central has it.</p>
            <p v-else
              ><b>{{ plan.outcome === 'created' ? 'A new collection' : `Version ${plan.version}` }}</b
              >, for {{ plural(plan.devices, 'device') }} with their next exchange<template v-if="plan.records"
                >; there are {{ plural(plan.records, 'record') }}</template
              ><template v-if="plan.carried">, of which {{ plural(plan.carried, 'record') }} would be carried over</template>.</p
            >
            <ul v-if="plan.differences?.length">
              <li v-for="(d, n) in plan.differences" :key="n">{{ d.what }}</li>
            </ul>
            <ul v-if="breaks" class="bad">
              <li v-for="b in plan.broken" :key="b.field"
                >{{ b.field }}: {{ b.message }}, in {{ plural(b.records, 'record') }}. Say under <code>carry</code> how their values go over.</li
              >
            </ul>
            <template v-if="read.examples?.length">
              <h2 class="second">Its examples</h2>
              <ul>
                <li v-for="(t, n) in read.examples" :key="n"
                  >{{ t.label || `example ${n + 1}` }}: <span v-if="t.wrong?.length" class="bad">{{ t.wrong.join('; ') }}</span><template v-else
                    >fits<template v-if="t.territories?.length">, falls into {{ t.territories.join(', ') }}</template></template
                  ></li
                >
              </ul>
            </template>
          </template>
          <div class="actions">
            <Button label="Define" size="small" :loading="working" :disabled="!plan || plan.outcome === 'unchanged' || breaks" @click="define" />
            <Button label="Cancel" size="small" severity="secondary" @click="cancel" />
          </div>
        </section>
        <TryMerge v-if="read?.definition" :definition="read.definition" class="whole" />
        <RehearsePanel v-if="plan" :definition="read?.definition" class="whole" />
      </div>
    </template>
    <template v-else-if="collection">
      <div class="head">
        <h1>{{ collection.title }}</h1>
        <span class="faint mono">{{ collection.collection }}, version {{ collection.version }}</span>
        <span class="grow" />
        <template v-if="mayDefine">
          <RouterLink to="/follow-ups">What followed changes</RouterLink>
          <Button label="New collection" icon="pi pi-plus" size="small" severity="secondary" @click="startEditing(true)" />
          <Button label="Edit the file" icon="pi pi-pencil" size="small" @click="startEditing(false)" />
        </template>
      </div>
      <p v-if="collection.description" class="about">{{ collection.description }}</p>
      <div class="columns">
        <section class="sheet scrolls" tabindex="0" aria-label="Fields">
          <table class="plain">
            <thead>
              <tr><th>Field</th><th>Holds</th><th>Where two edits meet</th></tr>
            </thead>
            <tbody>
              <tr v-for="f in collection.fields" :key="f.name">
                <td
                  ><b>{{ f.title }}</b> <span class="faint mono">{{ f.name }}</span><span v-if="f.required" class="warn"> required</span></td
                >
                <td
                  >{{ kind(f) }}<div v-if="from(f)" class="faint mono">{{ from(f) }}</div
                  ><div v-if="schemaOf(f).description" class="faint">{{ schemaOf(f).description }}</div></td
                >
                <td
                  ><template v-if="ruleOf(f)"
                    >{{ rules[ruleOf(f)] ?? ruleOf(f) }} <span class="faint">({{ ruleOf(f) }})</span></template
                  ><span v-else class="faint">{{ given(f) }}</span></td
                >
              </tr>
            </tbody>
          </table>
        </section>
        <section class="sheet padded">
          <h2>Rules, rights and reach</h2>
          <dl>
            <template v-for="[title, value, code] in rest" :key="title"
              ><dt>{{ title }}</dt
              ><dd :class="{ mono: code }">{{ value }}</dd></template
            >
          </dl>
        </section>
        <TryMerge v-if="mayDefine" :key="collection.collection" :definition="definitionOf(collection)" class="whole" />
      </div>
    </template>
    <EmptyNote v-else-if="!loading && !problem" :title="name ? `There is no collection ${name}` : 'Nothing is defined yet'"
      >A definition says what is collected: fields, rules, rights, territories.
      <Button v-if="mayDefine" label="Write the first" size="small" text @click="startEditing(true)"
    /></EmptyNote>
  </div>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
  gap: 1rem;
  align-items: start;
}
.whole {
  grid-column: 1 / -1;
}
.about {
  max-width: 50rem;
  margin: 0 0 0.9rem;
}
.scrolls {
  overflow-x: auto;
}
dl {
  display: grid;
  grid-template-columns: minmax(7rem, max-content) 1fr;
  gap: 0.4rem 1rem;
  margin: 0;
}
dt {
  color: var(--faint);
  max-width: 11rem;
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
.second {
  margin-top: 1rem;
}
ul {
  margin: 0.4rem 0;
  padding-left: 1.1rem;
}
@media (max-width: 900px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
