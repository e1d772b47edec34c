import { useDark as useStored } from '@vueuse/core'

// It sets the class at once, before anything is drawn.
const isDark = useStored({ storageKey: 'homing.look' })

/** Light or dark: as the system has it, until somebody chooses here. */
export function useDark() {
  return { dark: () => isDark.value, toggle: () => (isDark.value = !isDark.value) }
}
