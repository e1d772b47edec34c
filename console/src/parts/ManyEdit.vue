<script setup lang="ts">
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import Select from 'primevue/select'
import { useToast } from 'primevue/usetoast'
import { computed, ref, watch } from 'vue'
import { api, ask, type Fields, type Overview, type RecordRow } from '../api/client'
import { fieldsOf, labelOf, settable } from '../collections'
import { plural } from '../format'
import { newID } from '../ids'
import FieldInput from './FieldInput.vue'

/** Edits one field of many records, or removes them. Each is a change of its own, and all of it can be taken back. */
const props = defineProps<{ collection: Overview; records: RecordRow[] }>()
const emit = defineEmits<{ done: [] }>()
const what = defineModel<'edit' | 'remove' | undefined>('what')
const toast = useToast()

const field = ref('')
const value = ref<unknown>()
const wrong = ref('')
const went = ref(0)
const failed = ref<{ label: string; why: string }[]>([])
const working = ref(false)
const finished = ref(false)
/** What was done to which record: the field goes back to what it was, and what others have changed since stays; a removed record is brought back. */
type Done = { id: string; field?: string; before: unknown; seen: number; now: number }
const undo = ref<Done[]>([])

const fields = computed(() => (props.collection.fields ?? []).filter(settable))
const chosen = computed(() => fields.value.find((f) => f.name === field.value))
watch(field, () => {
  value.value = undefined
  wrong.value = ''
})
const taken = [...props.records] // those that were chosen when the dialog opened

/** Does something to each, a few at a time, and goes on where one fails. */
async function forEach<T extends { id: string }>(all: T[], label: (one: T) => string, act: (one: T) => Promise<unknown>) {
  working.value = true
  went.value = 0
  failed.value = []
  const rest = [...all]
  await Promise.all(
    Array.from({ length: 4 }, async () => {
      for (let one = rest.shift(); one; one = rest.shift()) {
        try {
          await act(one)
        } catch (error) {
          failed.value.push({ label: label(one), why: (error as Error).message })
        }
        went.value++
      }
    }),
  )
  working.value = false
}
const name = (r: RecordRow) => labelOf(props.collection, fieldsOf(r))
const path = (id: string) => ({ collection: props.collection.collection, id })

async function run() {
  if (wrong.value) return
  await forEach(taken, name, async (r) => {
    const header = { 'Idempotency-Key': newID() }
    const answer =
      what.value === 'edit'
        ? await ask(
            api.PATCH('/v1/records/{collection}/{id}', {
              params: { path: path(r.id), header },
              body: { base: r.revision, fields: { [field.value]: value.value ?? null } as Fields },
            }),
          )
        : await ask(api.DELETE('/v1/records/{collection}/{id}', { params: { path: path(r.id), header, query: { base: r.revision } } }))
    if (answer.revision && answer.revision > r.revision)
      undo.value.push({
        id: r.id,
        field: what.value === 'edit' ? field.value : undefined,
        before: fieldsOf(r)[field.value],
        seen: r.revision,
        now: answer.revision,
      })
    if (what.value === 'remove' && !answer.record?.removed) throw new Error('Somebody has edited it meanwhile: look at it, and remove it again.')
    if (answer.answer === 'held') throw new Error('Held for a person: somebody else had changed it.')
  })
  finished.value = true
  emit('done')
}
async function takeBack() {
  const back = undo.value
  undo.value = []
  const labels = new Map(taken.map((r) => [r.id, name(r)]))
  await forEach(
    back,
    (one) => labels.get(one.id) ?? one.id,
    async (one) => {
      try {
        if (one.field === undefined) await ask(api.POST('/v1/bring-back/{collection}/{id}', { params: { path: path(one.id) }, body: { revision: one.seen } }))
        else {
          const body = { base: one.now, fields: { [one.field]: one.before ?? null } as Fields }
          await ask(api.PATCH('/v1/records/{collection}/{id}', { params: { path: path(one.id), header: { 'Idempotency-Key': newID() } }, body }))
        }
      } catch (error) {
        undo.value.push(one) // it can be tried again
        throw error
      }
    },
  )
  emit('done')
  if (!failed.value.length) {
    what.value = undefined
    toast.add({ severity: 'success', summary: 'Taken back', detail: plural(back.length, 'record'), life: 4000 })
  }
}
</script>

<template>
  <Dialog
    :visible="!!what"
    modal
    :closable="!working"
    :close-on-escape="!working"
    :header="what === 'edit' ? `Edit a field of ${plural(taken.length, 'record')}` : `Remove ${plural(taken.length, 'record')}?`"
    :style="{ width: 'min(32rem, 94vw)' }"
    @update:visible="what = undefined"
  >
    <form v-if="!finished" class="form" @submit.prevent="run">
      <template v-if="what === 'edit'">
        <label for="many-field"
          >Field<Select
            v-model="field"
            input-id="many-field"
            aria-label="Field"
            :options="fields"
            option-label="title"
            option-value="name"
            placeholder="Choose one"
            fluid
        /></label>
        <label v-if="chosen" :key="field" :for="chosen.name"
          >{{ chosen.title }}<FieldInput v-model="value" :field="chosen" @wrong="wrong = $event" /><span v-if="wrong" class="wrong" role="alert">{{
            wrong
          }}</span></label
        >
        <p v-if="chosen && value === undefined && !wrong" class="faint">Without a value, it is cleared in all of them.</p>
      </template>
      <p v-else>They go from every device with its next exchange. Their history stays, and they can be brought back.</p>
      <p v-if="working" role="status">{{ went }} of {{ taken.length }}</p>
      <div class="actions">
        <Button
          type="submit"
          :label="what === 'edit' ? 'Save all' : 'Remove all'"
          size="small"
          :severity="what === 'remove' ? 'danger' : undefined"
          :loading="working"
          :disabled="what === 'edit' && (!field || !!wrong)"
        />
        <Button label="Cancel" size="small" severity="secondary" :disabled="working" autofocus @click="what = undefined" />
      </div>
    </form>
    <template v-else>
      <p role="status"
        >{{ went - failed.length }} of {{ went }} done<template v-if="working">, going on</template
        ><template v-if="failed.length">; these were not:</template></p
      >
      <ul v-if="failed.length" class="failed" tabindex="0" aria-label="What was not done">
        <li v-for="f in failed" :key="f.label"
          ><b>{{ f.label }}</b
          >: {{ f.why }}</li
        >
      </ul>
      <div class="actions">
        <Button label="Close" size="small" :disabled="working" autofocus @click="what = undefined" />
        <Button v-if="undo.length" label="Take all of it back" icon="pi pi-undo" size="small" severity="secondary" :loading="working" @click="takeBack" />
      </div>
    </template>
  </Dialog>
</template>

<style scoped>
.failed {
  max-height: 40vh;
  overflow-y: auto;
  padding-left: 1.1rem;
}
.form p {
  margin: 0;
}
</style>
