<script setup lang="ts">
import type { Counts } from 'homing-device/browser'
import { computed } from 'vue'
import { locale, t } from '../../../faces/words'

/** Marks with their numbers. What a colour says, a word says, too. */
const props = defineProps<{ counts: Partial<Counts>; below?: boolean }>()
const signs = computed(() => {
  const { refused = 0, disputed = 0, unsent = 0, urgent = 0, soon = 0, note = 0 } = props.counts
  return [
    { kind: 'bad', n: refused, say: t('refused') },
    { kind: 'bad', n: disputed, say: t('disputed') },
    { kind: 'mine', n: unsent, say: t('unsent') },
    { kind: 'urgent', n: urgent, say: t('urgent') },
    { kind: 'soon', n: soon, say: t('soon') },
    { kind: 'note', n: note, say: t('worth a look') },
  ].filter((one) => one.n > 0)
})
</script>

<template>
  <span v-if="signs.length" class="marks"
    ><span v-if="below" class="faint">{{ t('below:') }}</span
    ><span v-for="one in signs" :key="one.say" class="mark" :class="one.kind"
      >{{ one.n.toLocaleString(locale()) }} {{ one.say }}</span
    ></span
  >
</template>

<style scoped>
.marks {
  display: flex;
  flex-wrap: wrap;
  gap: 0.3rem 0.5rem;
  font-size: 0.85rem;
  align-items: center;
}
</style>
