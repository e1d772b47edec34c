<script setup lang="ts">
import InputText from './InputText.vue'
import type { DeviceRecord } from 'homing-device/browser'
import { computed, ref, watch } from 'vue'
import type { FieldLike } from '../../../faces/schema'
import { t } from '../../../faces/words'
import { definition, placeField } from '../definitions'
import { explain, mayChange, store } from '../device'
import { here, locate } from '../position'
import { called } from '../values'
import ActionSheet from './ActionSheet.vue'
import IconSign from './IconSign.vue'
import RecordLine from './RecordLine.vue'

/** Another record: found by what it is called, by how near it is, or added on the way. */
const props = defineProps<{ field: FieldLike; required: boolean }>()
const emit = defineEmits<{ add: [] }>()
const value = defineModel<unknown>()
const target = computed(() => definition(props.field.reference!))
const place = computed(() => placeField(target.value))
const open = ref(false)
const words = ref('')
const near = ref(false)
const found = ref<DeviceRecord[]>([])
const total = ref(0)
const wrong = ref('')
let asking = 0
async function search() {
  const mine = ++asking
  try {
    const at =
      near.value && here.position && place.value
        ? { near: { field: place.value.name, lon: here.position.at[0], lat: here.position.at[1] } }
        : {}
    const got = await store().find(props.field.reference!, {
      search: words.value,
      sort: target.value?.fields[0]?.name ?? '',
      limit: 30,
      ...at,
    })
    if (mine !== asking) return
    found.value = got.records
    total.value = got.total
  } catch (error) {
    wrong.value = explain(error)
  }
}
watch([open, words, near], () => open.value && void search())
async function nearest() {
  await locate()
  near.value = here.position !== undefined
}
function take(id: string | undefined) {
  value.value = id
  open.value = false
}
</script>

<template>
  <div class="reference"
    ><button :id="field.name" type="button" class="btn grow chosen" aria-haspopup="dialog" @click="open = true"
      ><span class="grow">{{ typeof value === 'string' ? called(field.reference!, value) : t('Choose …') }}</span
      ><IconSign name="next" /></button
    ><button
      v-if="value !== undefined && !required"
      type="button"
      class="btn"
      :aria-label="t('Take it out')"
      @click="value = undefined"
      ><IconSign name="close" /></button
  ></div>
  <ActionSheet v-if="open" :title="field.title" whole @close="open = false">
    <InputText
      v-model="words"
      type="search"
      :placeholder="t('Find')"
      :aria-label="t('Find in {title}', { title: target?.title ?? '' })"
      fluid
      autofocus
    />
    <div class="chips">
      <button
        v-if="place"
        type="button"
        class="chip"
        :aria-pressed="near"
        :disabled="here.looking"
        @click="near ? (near = false) : nearest()"
        ><IconSign name="here" :size="18" />{{
          here.looking ? t('Looking for where you are …') : t('Nearest first')
        }}</button
      >
      <button v-if="target && mayChange(target)" type="button" class="chip" @click="((open = false), emit('add'))"
        ><IconSign name="plus" :size="18" />{{ t('Add one') }}</button
      >
    </div>
    <p v-if="wrong || (here.wrong && place && !near)" class="small warn">{{ wrong || here.wrong }}</p>
    <ul v-if="found.length" class="sheet rows">
      <li v-for="one in found" :key="one.id">
        <button type="button" class="row" :aria-pressed="one.id === value" @click="take(one.id)"
          ><RecordLine :record="one" :far="near" /><IconSign v-if="one.id === value" name="check"
        /></button>
      </li>
    </ul>
    <p v-else>{{ t('Nothing here fits.') }}</p>
    <p v-if="total > found.length" class="small faint">{{ t('There are more: type a part of the name.') }}</p>
  </ActionSheet>
</template>

<style scoped>
.reference {
  display: flex;
  gap: 0.5rem;
}
.chosen {
  justify-content: space-between;
  text-align: start;
  font-weight: 400;
  background: var(--sheet);
}
</style>
