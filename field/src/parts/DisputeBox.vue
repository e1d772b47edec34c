<script setup lang="ts">
import { millisOf, type DeviceRecord, type Dispute } from 'homing-device/browser'
import { computed, ref } from 'vue'
import { readJSON } from '../../../generate/exact'
import { t } from '../../../faces/words'
import { definition, fieldOf } from '../definitions'
import { explain, moment, store } from '../device'
import { say } from '../notices'
import { fromStore, shown, toStore } from '../values'
import IconSign from './IconSign.vue'

/** A disputed field, or removal: both values, and a tap that says which is right. It works without signal. */
const props = defineProps<{ record: DeviceRecord; field: string; dispute: Dispute }>()
const emit = defineEmits<{ settled: [] }>()
const of = computed(() => definition(props.record.collection))
/** Stands for the removal of the record. */
const isRemoval = computed(() => props.field === 'record-removal')
const title = computed(() =>
  isRemoval.value
    ? t('Whether the record goes')
    : ((of.value && fieldOf(of.value, props.field.split('/')[0]!)?.title) ?? props.field),
)
const busy = ref(false)
const wrong = ref('')

interface Side {
  say: string
  about: string
  value: unknown
}
const partOf = (value: unknown, path: string[]): unknown =>
  path.reduce((at, name) => (at as Record<string, unknown> | undefined)?.[name], value)
const timeOf = (stamp: string) => moment(new Date(millisOf(stamp)).toISOString())
const sides = computed<Side[]>(() => {
  const words = (value: unknown) =>
    isRemoval.value
      ? value === true
        ? t('It goes')
        : t('It stays')
      : value === undefined || value === null
        ? t('nothing')
        : shown(of.value, props.field, value)
  const now = isRemoval.value ? false : fromStore(partOf(props.record.fields, props.field.split('/')))
  const others = props.dispute.others.map((one) => {
    const value = isRemoval.value ? true : one.value === undefined ? undefined : readJSON<unknown>(one.value)
    return { value, say: words(value), about: t('saved {when} on another device', { when: timeOf(one.side.stamp) }) }
  })
  const about = props.record.author ? t('as it is now, last by {who}', { who: props.record.author }) : t('as it is now')
  return [{ value: now, say: words(now), about }, ...others]
})

async function settle(side: Side) {
  busy.value = true
  wrong.value = ''
  try {
    await store().settle(props.record.collection, props.record.id, props.field, toStore(side.value))
    say(t('Settled: {title} is {value}', { title: title.value, value: side.say }))
    emit('settled')
  } catch (error) {
    wrong.value = explain(error)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <section class="banner warn">
    <div class="in grow">
      <h2><IconSign name="scales" :size="20" /> {{ t('Disputed: {title}', { title }) }}</h2>
      <p class="small">{{ t('Two people have said something else. Which is right?') }}</p>
      <button v-for="(side, n) in sides" :key="n" type="button" class="btn side" :disabled="busy" @click="settle(side)"
        ><b>{{ side.say }}</b
        ><span class="small">{{ side.about }}</span></button
      >
      <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
    </div>
  </section>
</template>

<style scoped>
.in {
  display: grid;
  gap: 0.6rem;
}
.side {
  display: grid;
  justify-items: start;
  padding: 0.5rem 0.9rem;
  text-align: start;
  overflow-wrap: anywhere;
}
</style>
