<script setup lang="ts">
import { InvalidError, type DeviceRecord } from 'homing-device/browser'
import { computed, ref } from 'vue'
import { t, tn } from '../../../faces/words'
import { settable, type Definition } from '../definitions'
import { explain, store } from '../device'
import { say } from '../notices'
import { why } from '../reasons'
import { takeBackAll } from '../undo'
import { toStore } from '../values'
import ActButton from './ActButton.vue'
import ActionSheet from './ActionSheet.vue'
import FieldBox from './FieldBox.vue'

/** One field of several records changed, or all of them removed. Each is saved for itself: one that does not fit harms no other. */
const props = defineProps<{ of: Definition; records: DeviceRecord[]; what: 'change' | 'remove' }>()
const emit = defineEmits<{ close: []; done: [] }>()
const fields = computed(() => props.of.fields.filter((field) => settable(field) && !field.local))
const name = ref(fields.value[0]?.name ?? '')
const field = computed(() => fields.value.find((one) => one.name === name.value))
const value = ref<unknown>()
const unread = ref('')
const busy = ref(false)
const failed = ref<{ label: string; why: string }[]>([])

async function run() {
  if (unread.value) return
  busy.value = true
  failed.value = []
  const before = new Set((await store().review()).map((one) => one.number))
  let done = 0
  for (const record of props.records) {
    try {
      if (props.what === 'remove') await store().remove(props.of.collection, record.id, record)
      else await store().edit(props.of.collection, record.id, { [name.value]: toStore(value.value) }, record)
      done++
    } catch (error) {
      const reason = error instanceof InvalidError ? error.reasons.map(why).join('; ') : explain(error)
      failed.value.push({ label: record.label || t('without a name'), why: reason })
    }
  }
  const saved = (await store().review()).map((one) => one.number).filter((number) => !before.has(number))
  busy.value = false
  const text =
    props.what === 'remove'
      ? tn(done, '{n} record removed|{n} records removed')
      : tn(done, '{n} record changed|{n} records changed')
  if (done) say(text, { action: { label: t('Undo'), run: () => takeBackAll(saved) } })
  if (failed.value.length === 0) emit('done')
}
</script>

<template>
  <ActionSheet
    :title="
      what === 'remove'
        ? tn(records.length, 'Remove {n} record?|Remove {n} records?')
        : tn(records.length, 'Change a field of {n} record|Change a field of {n} records')
    "
    @close="emit('close')"
  >
    <template v-if="what === 'change'">
      <label class="field" for="which"
        ><span class="name">{{ t('Field') }}</span
        ><select id="which" v-model="name" @change="value = undefined">
          <option v-for="one in fields" :key="one.name" :value="one.name">{{ one.title }}</option>
        </select></label
      >
      <FieldBox
        v-if="field"
        :key="name"
        v-model="value"
        :field="field"
        :of="of"
        :wrong="unread"
        @wrong="unread = $event"
      />
      <p class="small faint">{{ t('Left empty, the value is taken away.') }}</p>
    </template>
    <p v-else>{{
      t('What belongs to them and goes with its parent goes, too. All of it can be taken back until it is sent.')
    }}</p>
    <p v-for="one in failed" :key="one.label" class="wrong" role="alert">{{ one.label }}: {{ one.why }}</p>
    <div class="acts">
      <button v-if="what === 'remove'" type="button" class="btn danger" :disabled="busy" @click="run">{{
        t('Remove')
      }}</button>
      <ActButton v-else type="button" :label="t('Save')" :loading="busy" @click="run" />
      <button type="button" class="btn" @click="emit('close')">{{ failed.length ? t('Close') : t('Cancel') }}</button>
    </div>
  </ActionSheet>
</template>
