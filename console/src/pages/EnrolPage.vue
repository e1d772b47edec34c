<script setup lang="ts">
import { computed } from 'vue'

/** Where the QR code of an enrolment leads when somebody scans it with a camera. */
const link = window.location.href
const code = computed(() => window.location.hash.slice(1))
</script>

<template>
  <div class="page">
    <h1>Enrol this device</h1>
    <template v-if="code">
      <p
        >The code <b class="mono">{{ code }}</b> enrols one device. Give this link to the app that collects the data, or on a command line:</p
      >
      <pre class="mono">homing local enrol --link '{{ link }}' --name NAME</pre>
    </template>
    <p v-else>There is no code in this address. Ask whoever looks after central for an enrolment code.</p>
  </div>
</template>

<style scoped>
pre {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  background: var(--sheet);
  border: 1px solid var(--line);
  padding: 0.7rem;
  border-radius: 4px;
}
</style>
