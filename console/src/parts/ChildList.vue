<script setup lang="ts">
import Button from 'primevue/button'
import { computed, onMounted, ref } from 'vue'
import { api, ask, type Overview, type RecordRow } from '../api/client'
import { fieldsOf, labelOf } from '../collections'
import AttentionMark from './AttentionMark.vue'
import { drafted } from '../drafts'
import { ago } from '../format'
import { useHeads } from '../live'
import { useSession } from '../session'
import AddDialog from './AddDialog.vue'

/** The records of a child collection that belong to one record. */
const props = defineProps<{ collection: Overview; parent: string }>()
const few = 8
const { mayEdit } = useSession()
const records = ref<RecordRow[]>([])
const total = ref(0)
const more = ref(false) // there are more than are counted
const adding = ref(false)
const where = computed(() => `${props.collection.parent?.field}=${props.parent}`)

async function refresh() {
  const path = { collection: props.collection.collection }
  const listing = await ask(api.GET('/v1/records/{collection}', { params: { path, query: { where: [where.value], sort: '-edited_at', limit: few } } })).catch(
    () => undefined,
  )
  records.value = listing?.records ?? []
  total.value = listing?.total ?? 0
  more.value = listing?.more ?? false
}
onMounted(refresh)
useHeads((names) => {
  if (names.length === 0 || names.includes(props.collection.collection)) refresh()
})
</script>

<template>
  <section class="sheet padded">
    <div class="top">
      <h2
        >{{ collection.title }} <span class="count">{{ more ? '>' : '' }}{{ total.toLocaleString() }}</span></h2
      >
      <Button
        v-if="mayEdit"
        :label="drafted(collection.collection, `new under ${parent}`) ? 'Go on with your draft' : `Add to ${collection.title.toLowerCase()}`"
        icon="pi pi-plus"
        size="small"
        text
        @click="adding = true"
      />
    </div>
    <p v-if="!records.length" class="faint">None yet.</p>
    <ul>
      <li v-for="r in records" :key="r.id">
        <RouterLink :to="{ name: 'record', params: { collection: collection.collection, id: r.id } }">{{
          labelOf(collection, fieldsOf(r))
        }}</RouterLink><AttentionMark :record="r" />
        <span class="faint">{{ ago(r.edited_at) }} by {{ r.author }}</span>
      </li>
    </ul>
    <RouterLink v-if="total > records.length" :to="{ name: 'records', params: { collection: collection.collection }, query: { where } }"
      >All {{ total.toLocaleString() }}</RouterLink
    >
    <AddDialog v-model:visible="adding" :collection="collection" :preset="{ [collection.parent!.field]: parent }" :under="parent" @added="refresh" />
  </section>
</template>

<style scoped>
.top {
  display: flex;
  justify-content: space-between;
  align-items: center;
  margin: -0.35rem 0 0.35rem;
}
.top h2 {
  margin: 0;
}
.count {
  color: var(--ink);
  font-weight: 650;
  margin-left: 0.3rem;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  display: flex;
  justify-content: space-between;
  gap: 1rem;
  padding: 0.22rem 0;
  border-bottom: 1px solid var(--line);
}
li:last-child {
  border-bottom: 0;
}
li a {
  overflow-wrap: anywhere;
}
li .faint {
  white-space: nowrap;
}
p {
  margin: 0;
}
</style>
