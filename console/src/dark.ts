import { ref, watchEffect } from 'vue'

const key = 'homing.look'
const system = window.matchMedia('(prefers-color-scheme: dark)')
const chosen = ref<string | null>(localStorage.getItem(key))
const systemDark = ref(system.matches)
system.addEventListener('change', (event) => (systemDark.value = event.matches))

const dark = () => (chosen.value ?? (systemDark.value ? 'dark' : 'light')) === 'dark'
function toggle() {
  chosen.value = dark() ? 'light' : 'dark'
  localStorage.setItem(key, chosen.value)
}

/** Light or dark: as the system has it, until somebody chooses here. */
export function useDark() {
  return { dark, toggle }
}

watchEffect(() => document.documentElement.classList.toggle('dark', dark()))
