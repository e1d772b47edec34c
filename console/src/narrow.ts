import { ref } from 'vue'

const query = window.matchMedia('(max-width: 720px)')
const narrow = ref(query.matches)
query.addEventListener('change', (event) => (narrow.value = event.matches))

/** Whether the window is as narrow as a phone. */
export const useNarrow = () => narrow
