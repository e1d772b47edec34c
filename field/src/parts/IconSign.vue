<script lang="ts">
// Signs of our own, drawn in strokes on a square of 24.
const paths = {
  back: 'M15 5l-7 7 7 7',
  next: 'M9 5l7 7-7 7',
  plus: 'M12 5v14M5 12h14',
  close: 'M6 6l12 12M18 6L6 18',
  check: 'M5 13l5 5L19 7',
  records: 'M4 6h16M4 12h16M4 18h10',
  send: 'M12 19V5M6 11l6-6 6 6',
  device: 'M8 3h8a1 1 0 0 1 1 1v16a1 1 0 0 1-1 1H8a1 1 0 0 1-1-1V4a1 1 0 0 1 1-1zM11 18h2',
  map: 'M9 4L3 6v14l6-2 6 2 6-2V4l-6 2-6-2zM9 4v14M15 6v14',
  list: 'M9 6h11M9 12h11M9 18h11M4 6h1M4 12h1M4 18h1',
  here: 'M12 21s7-6.2 7-11a7 7 0 1 0-14 0c0 4.800 7 11 7 11zM12 12.500a2.500 2.500 0 1 0 0-5 2.500 2.500 0 0 0 0 5',
  find: 'M11 18a7 7 0 1 0 0-14 7 7 0 0 0 0 14zM20 20l-4-4',
  edit: 'M4 20h4L19 9l-4-4L4 16v4zM13 7l4 4',
  remove: 'M5 7h14M10 7V4h4v3M7 7l1 13h8l1-13M10 11v5M14 11v5',
  warn: 'M12 4L2.500 20h19L12 4zM12 10v5M12 17.500v.5',
  lock: 'M6 11h12v9H6zM9 11V8a3 3 0 0 1 6 0v3',
  person: 'M12 12a4 4 0 1 0 0-8 4 4 0 0 0 0 8zM4 21c0-4 4-6 8-6s8 2 8 6',
  signal: 'M5 19v-3M10 19v-7M15 19V8M20 19V4',
  silent: 'M5 19v-3M10 19v-7M15 19v-3M20 19V4M3 3l18 18',
  pen: 'M4 20l3-1L20 6l-2-2L5 17l-1 3z',
  scales: 'M12 4v16M5 20h14M5 8l-3 6h6L5 8zM19 8l-3 6h6l-3-6zM5 8h14',
  clock: 'M12 21a9 9 0 1 0 0-18 9 9 0 0 0 0 18zM12 7v5l3 2',
  copy: 'M5 15V5h10M9 9h10v11H9z',
  minus: 'M5 12h14',
  all: 'M4 9V4h5M20 9V4h-5M4 15v5h5M20 15v5h-5',
  walk: 'M13 5.500a1.500 1.500 0 1 0 0-3 1.500 1.500 0 0 0 0 3zM10 21l2-6-2-3 1-4 3 2 3 1M11 8l-4 2-1 3M12 15l3 6',
  undo: 'M9 14L4 9l5-5M4 9h10a6 6 0 0 1 0 12h-3',
}
export type Sign = keyof typeof paths
</script>

<script setup lang="ts">
defineProps<{ name: Sign; size?: number }>()
</script>

<template>
  <svg
    viewBox="0 0 24 24"
    :width="size ?? 24"
    :height="size ?? 24"
    aria-hidden="true"
    :class="{ turns: name === 'back' || name === 'next' }"
  >
    <path
      :d="paths[name]"
      fill="none"
      stroke="currentColor"
      stroke-width="2"
      stroke-linecap="round"
      stroke-linejoin="round"
    />
  </svg>
</template>

<style scoped>
svg {
  flex: none;
}
[dir='rtl'] .turns {
  transform: scaleX(-1);
}
</style>
