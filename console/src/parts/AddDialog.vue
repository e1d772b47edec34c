<script setup lang="ts">
import Dialog from 'primevue/dialog'
import { useToast } from 'primevue/usetoast'
import { shallowRef, ref, watch } from 'vue'
import { api, ask, type Fields, type Overview } from '../api/client'
import { labelOf } from '../collections'
import { openDraft, placeOf, type OpenDraft } from '../drafts'
import { newID, since, useKey } from '../ids'
import RecordForm from './RecordForm.vue'

/** A form for a new record. It has its id before it is sent, so that sending it again after a lost answer does not make two. */
const props = defineProps<{ collection: Overview; preset?: Fields; under?: string }>()
const emit = defineEmits<{ added: [id: string] }>()
const visible = defineModel<boolean>('visible')
const toast = useToast()
const form = ref<{ leave: () => boolean | Promise<boolean> }>()
const kept = shallowRef<OpenDraft>()
const key = useKey(() => kept.value)
let id = ''
/** Begins with the draft that there is, or a record of its own. */
function begin() {
  const fresh = newID()
  kept.value = openDraft(placeOf(props.collection.collection, `new${props.under ? ` under ${props.under}` : ''}`), { id: fresh })
  id = kept.value.first?.id || fresh
}
watch(visible, (open) => open && begin(), { immediate: true })

async function close(open: boolean) {
  if (open || (await form.value?.leave()) !== false) visible.value = open
}

type Add = {
  id: string
  fields: Fields
}
const path = () => ({ collection: props.collection.collection })
const send = (body: Add) =>
  key.send(body, (under) => ask(api.POST('/v1/records/{collection}', { params: { path: path(), header: { 'Idempotency-Key': under } }, body })))

async function add(fields: Fields) {
  const body = { id, fields }
  const earlier = key.before<Add>(body)
  let added
  if (earlier) {
    // It may be there already, as it was then: what has changed since is an edit of it.
    added = await send(earlier)
    const edit = { base: 1, fields: since(earlier.fields, fields) }
    const params = { path: { ...path(), id: added.record?.id ?? id } }
    await key.send(edit, (under) =>
      ask(api.PATCH('/v1/records/{collection}/{id}', { params: { ...params, header: { 'Idempotency-Key': under } }, body: edit })),
    )
  } else added = await send(body)
  visible.value = false
  toast.add({ severity: 'success', summary: 'Added', detail: labelOf(props.collection, fields), life: 4000 })
  emit('added', added.record?.id ?? id) // of the one for a place and period, the id follows from these
}
</script>

<template>
  <Dialog
    :visible="visible"
    modal
    :close-on-escape="false"
    :header="`Add to ${collection.title}`"
    :style="{ width: 'min(34rem, 94vw)' }"
    @update:visible="close"
  >
    <RecordForm
      ref="form"
      :collection="collection"
      :fields="{}"
      :preset="preset"
      :kept="kept"
      :submit="add"
      done="Add"
      @cancel="visible = false"
      @thrown="begin"
    />
  </Dialog>
</template>
