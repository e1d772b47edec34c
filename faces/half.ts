import { inject, onUnmounted, provide, type InjectionKey } from 'vue'

/** What stands in the boxes of a form and cannot be read yet, by the box: it is part of the draft as any value is. */
export type Half = Record<string, string>

const key: InjectionKey<Half> = Symbol('half')
export const provideHalf = (half: Half) => provide(key, half)

/** What an unreadable box began with, and a way to keep what it holds now. Outside of forms with drafts, nothing is kept. */
export function useHalf(box: unknown) {
  const half = inject(key, undefined)
  const name = typeof box === 'string' ? box : ''
  let here = true
  onUnmounted(() => (here = false))
  return {
    first: name ? half?.[name] : undefined,
    keep(text: string | undefined) {
      if (!half || !name || !here) return
      if (text === undefined) delete half[name]
      else half[name] = text
    },
    /** Forgets what stands in the boxes of something that is gone. */
    forget(start: string) {
      for (const known of Object.keys(half ?? {})) if (known.startsWith(start)) delete half![known]
    },
  }
}
