<script setup lang="ts">
import { computed, onMounted, onUnmounted, ref } from 'vue'
import { t, tn } from '../../../faces/words'
import { ago, device, disputed, refused, unsent } from '../device'
import { definition } from '../definitions'
import IconSign from './IconSign.vue'

/** One calm line about the device; a banner once it needs whoever holds it. */
const tick = ref(0)
let timer: ReturnType<typeof setInterval> | undefined
onMounted(() => (timer = setInterval(() => tick.value++, 20_000)))
onUnmounted(() => clearInterval(timer))
const age = computed(() => (tick.value >= 0 ? ago(device.asOf) : ''))
const progress = computed(() => {
  const now = device.exchanging
  if (!now) return ''
  if (now === true) return t('Exchanging …')
  const title = now.collection ? (definition(now.collection)?.title ?? now.collection) : ''
  if (now.phase === 'push') return t('Sending: {n}', { n: now.done })
  return now.total
    ? t('Loading {title}: {n} of {total}', { title, n: now.done, total: now.total })
    : t('Loading {title}: {n}', { title, n: now.done })
})
const old = computed(() => (device.tooOld ? definition(device.tooOld)?.title : ''))
</script>

<template>
  <section class="status" :aria-label="t('State of this device')">
    <p class="line" role="status">
      <span class="part"
        ><IconSign :name="device.online ? 'signal' : 'silent'" :size="18" /><span>{{
          device.online ? t('Signal') : t('No signal')
        }}</span></span
      ><span class="part"><IconSign name="person" :size="18" />{{ device.worker }}</span
      ><span v-if="progress" class="part">{{ progress }}</span
      ><span v-else class="part">{{ device.asOf ? t('as of {ago}', { ago: age }) : t('nothing loaded yet') }}</span
      ><RouterLink v-if="unsent" to="/unsent" class="part link">{{
        tn(unsent, '{n} unsent|{n} unsent')
      }}</RouterLink></p
    >
    <RouterLink v-if="refused" to="/unsent" class="banner bad" role="alert"
      ><IconSign name="warn" /><span class="grow">{{
        tn(
          refused,
          'Central has refused {n} record. Look why, and mend it.|Central has refused {n} records. Look why, and mend them.',
        )
      }}</span></RouterLink
    >
    <RouterLink v-if="disputed" to="/unsent" class="banner warn"
      ><IconSign name="scales" /><span class="grow">{{
        tn(
          disputed,
          '{n} record is disputed: somebody has to say what is right.|{n} records are disputed: somebody has to say what is right.',
        )
      }}</span></RouterLink
    >
    <p v-if="device.steered.note" class="banner"
      ><IconSign name="person" /><span class="grow">{{
        t('Central says: {note}', { note: device.steered.note })
      }}</span></p
    >
    <p v-if="old" class="banner warn"
      ><IconSign name="clock" /><span class="grow">{{
        t('{title} are old. Exchange before you go by them.', { title: old })
      }}</span></p
    >
    <p v-if="device.loading && !device.exchanging" class="banner warn"
      ><IconSign name="warn" /><span class="grow">{{
        t('Not everything is loaded yet. It goes on with the next exchange.')
      }}</span
      ><RouterLink to="/unsent" class="btn">{{ t('Go on') }}</RouterLink></p
    >
  </section>
</template>

<style scoped>
.status {
  display: grid;
  gap: 0.5rem;
  padding: 0 0.9rem 0.55rem;
  background: var(--sheet);
  border-bottom: 1px solid var(--line);
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 0.1rem 0.9rem;
  font-size: 0.88rem;
  color: var(--faint);
}
.part {
  display: inline-flex;
  align-items: center;
  gap: 0.3rem;
  min-height: 24px;
}
.banner {
  text-decoration: none;
  align-items: center;
  min-height: 48px;
}
@media (min-width: 900px) {
  .status {
    padding-inline: max(0.9rem, calc((100vw - 46rem) / 2 + 0.9rem));
  }
}
</style>
