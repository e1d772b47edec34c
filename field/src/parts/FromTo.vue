<script setup lang="ts">
import type { Delta } from 'homing-device/browser'
import { readJSON } from '../../../generate/exact'
import { t } from '../../../faces/words'
import { fieldOf, type Definition } from '../definitions'
import { shown } from '../values'

/** What a change sets, from what to what. */
const props = defineProps<{ of: Definition | undefined; fields: Delta }>()
const read = (raw: string | undefined) => (raw === undefined ? undefined : readJSON<unknown>(raw))
const titleOf = (name: string) => (props.of && fieldOf(props.of, name)?.title) ?? name
const text = (name: string, raw: string | undefined) => (raw === undefined ? '' : shown(props.of, name, read(raw)))
</script>

<template>
  <ul class="change">
    <li v-for="(edit, name) in fields" :key="name"
      ><span class="name">{{ titleOf(String(name)) }}</span
      ><span
        ><del v-if="edit.from !== undefined">{{ text(String(name), edit.from) }}</del
        ><span class="faint"> → </span><ins v-if="edit.to !== undefined">{{ text(String(name), edit.to) }}</ins
        ><em v-else>{{ t('nothing') }}</em></span
      ></li
    >
  </ul>
</template>

<style scoped>
.change {
  display: grid;
  gap: 0.35rem;
}
li {
  display: grid;
  overflow-wrap: anywhere;
}
.name {
  font-size: 0.85rem;
  color: var(--faint);
}
del {
  text-decoration-color: var(--edge);
  color: var(--faint);
}
ins {
  text-decoration: none;
  font-weight: 600;
}
</style>
