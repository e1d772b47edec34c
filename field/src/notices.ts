// What is said in passing, with a way back where there is one, and what is asked before something that has none.
import { reactive, shallowRef } from 'vue'

export interface Notice {
  id: number
  text: string
  bad: boolean
  action?: { label: string; run: () => unknown } | undefined
}

export const notices = reactive<Notice[]>([])
let last = 0
const shownFor = 12_000 // milliseconds: time to read it, and to reach the button

export function say(text: string, options: { bad?: boolean; action?: Notice['action'] } = {}) {
  const id = ++last
  // One way back at a time: it is of what was done last.
  notices.splice(0, notices.length, ...notices.filter((one) => !one.action && !one.bad).slice(-1))
  notices.push({ id, text, bad: options.bad === true, action: options.action })
  if (!options.bad) setTimeout(() => dismiss(id), shownFor)
}

export function dismiss(id: number) {
  const at = notices.findIndex((one) => one.id === id)
  if (at >= 0) notices.splice(at, 1)
}

export interface Question {
  title: string
  text: string
  yes: string
  no: string
  danger?: boolean
}

export const question = shallowRef<{ of: Question; answer: (yes: boolean) => void }>()

/** Asks, and waits for the answer. */
export function ask(of: Question): Promise<boolean> {
  return new Promise((resolve) => {
    question.value = {
      of,
      answer: (yes) => {
        question.value = undefined
        resolve(yes)
      },
    }
  })
}
