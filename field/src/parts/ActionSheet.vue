<script setup lang="ts">
import { onMounted, onBeforeUnmount, ref } from 'vue'
import { t } from '../../../faces/words'
import IconSign from './IconSign.vue'

/** A sheet over the page: it has the focus while it is open, and gives it back. */
defineProps<{ title: string; whole?: boolean }>()
const emit = defineEmits<{ close: [] }>()
const dialog = ref<HTMLDialogElement>()
onMounted(() => dialog.value?.showModal())
onBeforeUnmount(() => dialog.value?.close())
</script>

<template>
  <dialog
    ref="dialog"
    :class="{ whole }"
    :aria-label="title"
    @cancel.prevent="emit('close')"
    @click.self="emit('close')"
  >
    <div class="in">
      <header
        ><h2>{{ title }}</h2
        ><button type="button" class="btn plain" :aria-label="t('Close')" @click="emit('close')"
          ><IconSign name="close" /></button
      ></header>
      <slot />
    </div>
  </dialog>
</template>

<style scoped>
.in {
  display: grid;
  gap: 0.9rem;
  padding: 0.9rem;
  align-content: start;
}
.whole {
  height: 92dvh;
}
header {
  display: flex;
  align-items: center;
  justify-content: space-between;
  gap: 0.6rem;
}
</style>
