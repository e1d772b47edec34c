// What the frame of a page shows of it.
import { nextTick, reactive, watchEffect } from 'vue'

/** Where the button in the corner leads: a path, or nowhere on the pages of the bar below. */
export const page = reactive({ title: '', back: '' })

export function usePage(title: () => string, back: () => string = () => '') {
  watchEffect(() => {
    page.title = title()
    page.back = back()
    document.title = page.title ? `${page.title} – Homing` : 'Homing'
  })
}

/** Moves the focus to what came up, for who goes by keyboard or by ear. */
export async function focusOn(selector: string) {
  await nextTick()
  document.querySelector<HTMLElement>(selector)?.focus()
}
