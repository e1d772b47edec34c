import { useMediaQuery } from '@vueuse/core'

/** Whether the window is as narrow as a phone. */
export const useNarrow = () => useMediaQuery('(max-width: 720px)')
