<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { ref } from 'vue'

/** A box for a password, which can be shown to who types it. */
defineOptions({ inheritAttrs: false })
const value = defineModel<string>()
const open = ref(false)
</script>

<template>
  <span class="pair">
    <InputText v-model="value" :type="open ? 'text' : 'password'" fluid v-bind="$attrs" />
    <Button
      type="button"
      :icon="open ? 'pi pi-eye-slash' : 'pi pi-eye'"
      text
      size="small"
      :aria-label="open ? 'Hide what is typed' : 'Show what is typed'"
      :aria-pressed="open"
      @click="open = !open"
    />
  </span>
</template>

<style scoped>
.pair {
  display: grid;
  grid-template-columns: minmax(0, 1fr) auto;
  gap: 0.3rem;
}
</style>
