<script setup lang="ts">
import type { Counts, DeviceRecord } from 'homing-device/browser'
import { computed } from 'vue'
import { t } from '../../../faces/words'
import { attentionTitle, definition, placeField } from '../definitions'
import { here } from '../position'
import { direction, distance, nameOf, placeOf, shown, way } from '../values'
import MarkSigns from './MarkSigns.vue'

/** A record in a list: what it is called, what it wants, and how far it is. */
const props = defineProps<{ record: DeviceRecord; below?: Partial<Counts> | undefined; far?: boolean }>()
const of = computed(() => definition(props.record.collection))
/** Two choices that say most, below the label. */
const gist = computed(() => {
  const fields =
    of.value?.fields.filter(
      (field) => (field.schema as { enum?: unknown[] })?.enum && props.record.fields[field.name] !== undefined,
    ) ?? []
  return fields
    .slice(0, 2)
    .map((field) => shown(of.value, field.name, props.record.fields[field.name]))
    .filter((text) => !nameOf(props.record).includes(text))
    .join(' · ')
})
const where = computed(() => {
  const at = placeOf(of.value, placeField(of.value)?.name, props.record)
  if (!props.far || !at || !here.position) return ''
  const { metres, degrees } = way(here.position.at, at)
  return t('{distance} {direction}', { distance: distance(metres), direction: direction(degrees) })
})
</script>

<template>
  <span class="grow line">
    <span class="label">{{ nameOf(record) }}</span>
    <span v-if="gist || where" class="faint small">{{ [where, gist].filter(Boolean).join(' · ') }}</span>
    <span class="marks">
      <span v-if="record.attention" class="mark" :class="record.attention.grade">{{
        attentionTitle(of, record.attention.say)
      }}</span>
      <span v-if="record.refused" class="mark bad">{{ t('refused') }}</span>
      <span v-if="Object.keys(record.disputes).length" class="mark bad">{{ t('disputed') }}</span>
      <span v-if="record.pending" class="mark mine">{{ record.revision === 0 ? t('new, unsent') : t('unsent') }}</span>
      <span v-if="record.lost" class="mark soon">{{ t('lost at central') }}</span>
      <MarkSigns v-if="below" :counts="below" below />
    </span>
  </span>
</template>

<style scoped>
.line {
  display: grid;
  gap: 0.15rem;
}
.label {
  font-weight: 550;
  overflow-wrap: anywhere;
}
.marks {
  display: flex;
  flex-wrap: wrap;
  gap: 0.3rem 0.5rem;
}
.marks:empty {
  display: none;
}
</style>
