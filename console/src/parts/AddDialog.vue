<script setup lang="ts">
import Dialog from 'primevue/dialog'
import { useToast } from 'primevue/usetoast'
import { ref, watch } from 'vue'
import { api, ask, type Fields, type Overview } from '../api/client'
import { labelOf } from '../collections'
import { newID, useKey } from '../ids'
import RecordForm from './RecordForm.vue'

/** A form for a new record. It has its id before it is sent, so that sending it again after a lost answer does not make two. */
const props = defineProps<{ collection: Overview; preset?: Fields }>()
const emit = defineEmits<{ added: [id: string] }>()
const visible = defineModel<boolean>('visible')
const toast = useToast()
const form = ref<{ leave: () => boolean | Promise<boolean> }>()
const key = useKey()
let id = ''
watch(visible, (open) => open && (id = newID()), { immediate: true })

async function close(open: boolean) {
  if (open || (await form.value?.leave()) !== false) visible.value = open
}

async function add(fields: Fields) {
  const body = { id, fields }
  const header = { 'Idempotency-Key': key.keyFor(body) }
  await ask(api.POST('/v1/records/{collection}', { params: { path: { collection: props.collection.collection }, header }, body }))
  key.done()
  visible.value = false
  toast.add({ severity: 'success', summary: 'Added', detail: labelOf(props.collection, fields), life: 4000 })
  emit('added', id)
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
    <RecordForm ref="form" :collection="collection" :fields="{}" :preset="preset" :submit="add" done="Add" @cancel="visible = false" />
  </Dialog>
</template>
