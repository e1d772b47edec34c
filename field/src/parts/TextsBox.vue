<script setup lang="ts">
import InputText from './InputText.vue'
import { computed, ref } from 'vue'
import { t } from '../../../faces/words'
import IconSign from './IconSign.vue'

/** A list of texts: each is typed and added, and can be taken out again. */
defineProps<{ name: string; title: string }>()
const value = defineModel<unknown>()
const all = computed(() => (Array.isArray(value.value) ? (value.value as string[]) : []))
const typed = ref('')
function put(list: string[]) {
  value.value = list.length ? list : undefined
}
// What was typed and not added is part of it, too, once the box loses the focus.
function add() {
  const text = typed.value.trim()
  typed.value = ''
  if (text) put([...all.value, text])
}
</script>

<template>
  <div class="texts">
    <ul v-if="all.length">
      <li v-for="(one, n) in all" :key="n"
        ><span class="grow">{{ one }}</span
        ><button
          type="button"
          class="btn plain"
          :aria-label="t('Take out {text}', { text: one })"
          @click="put(all.filter((_, other) => other !== n))"
          ><IconSign name="close" /></button
      ></li>
    </ul>
    <div class="one"
      ><InputText
        :id="name"
        v-model="typed"
        :aria-label="t('Add to {title}', { title })"
        fluid
        autocomplete="off"
        @keydown.enter.prevent="add"
        @blur="add" /><button type="button" class="btn" :aria-label="t('Add')" @click="add"
        ><IconSign name="plus" /></button
    ></div>
  </div>
</template>

<style scoped>
li,
.one {
  display: flex;
  align-items: center;
  gap: 0.5rem;
}
</style>
