// What somebody has set for this browser: it is nobody's secret, and lies beside the store.
import { reactive, watch } from 'vue'
import { speak, type Catalogue } from '../../faces/words'

export type Look = 'system' | 'light' | 'dark' | 'contrast'

interface Settings {
  language: string // empty: as the browser has it
  look: Look
  byItself: boolean
  minutes: number
  holdMetered: boolean
}

const key = 'homing-field'
const first: Settings = { language: '', look: 'system', byItself: true, minutes: 15, holdMetered: false }

function read(): Settings {
  try {
    return { ...first, ...(JSON.parse(localStorage.getItem(key) ?? '{}') as Partial<Settings>) }
  } catch {
    return { ...first } // this browser keeps nothing, or something else wrote there
  }
}

export const settings = reactive(read())
watch(settings, (now) => {
  show()
  try {
    localStorage.setItem(key, JSON.stringify(now))
  } catch {
    // It holds while the page is open.
  }
})

/** Languages of which there is a whole catalogue; English needs none. */
const catalogues: { [language: string]: () => Promise<{ words: Catalogue }> } = {
  de: () => import('./words/de'),
}
export const languages = ['en', ...Object.keys(catalogues)]

/** The language that is spoken: the one that was chosen, or the first of the browser's. */
export const language = () => settings.language || navigator.language || 'en'

/** Speaks the language that is set. The page is loaded anew when another one is chosen. */
export async function learn() {
  const spoken = language()
  const base = spoken.split('-')[0]!
  const words = catalogues[base] ? (await catalogues[base]()).words : undefined
  speak(settings.language ? spoken : undefined, words)
  document.documentElement.lang = words ? spoken : settings.language || 'en'
  document.documentElement.dir = rightToLeft(settings.language || (words ? spoken : 'en')) ? 'rtl' : 'ltr'
}

/** Whether a language is written from right to left. */
function rightToLeft(tag: string): boolean {
  const scripts = new Intl.Locale(tag).maximize().script
  return ['Arab', 'Hebr', 'Thaa', 'Syrc', 'Nkoo', 'Adlm', 'Rohg'].includes(scripts ?? '')
}

/** Shows the look that is set. */
export function show() {
  const dark =
    settings.look === 'dark' || (settings.look === 'system' && matchMedia('(prefers-color-scheme: dark)').matches)
  document.documentElement.classList.toggle('dark', dark)
  document.documentElement.classList.toggle(
    'contrast',
    settings.look === 'contrast' || (settings.look === 'system' && matchMedia('(prefers-contrast: more)').matches),
  )
}
for (const query of ['(prefers-color-scheme: dark)', '(prefers-contrast: more)'])
  matchMedia(query).addEventListener('change', show)

/** What browsers say of the link, where they do. */
interface Connection {
  type?: string
  saveData?: boolean
}

/** Whether each byte may cost: the browser says so of mobile links, or its user has asked to save. */
export function metered(): boolean {
  const { connection } = navigator as { connection?: Connection }
  return connection?.saveData === true || connection?.type === 'cellular'
}
