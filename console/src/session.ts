import { computed, ref } from 'vue'
import { api, ask, Problem, whenSignedOut, type Session } from './api/client'
import { sessionMoved, whenSessionMoves } from './live'

const session = ref<Session>()
const unreachable = ref(false)

const ended = ref(false) // by central, while a page was open

whenSignedOut(() => (ended.value = session.value !== undefined))

// Another tab has signed in or out: all have one cookie, so what is open here may be somebody else's by now.
whenSessionMoves(async () => {
  if (!session.value) return location.reload()
  const now = await ask(api.GET('/v1/session')).catch(() => undefined) // that nobody is signed in is told by itself
  if (now && now.worker !== session.value.worker) location.reload()
  else if (now) ended.value = false
})

const order = ['reader', 'worker', 'lead', 'admin']
const atLeast = (role: string) => computed(() => order.indexOf(session.value?.role ?? '') >= order.indexOf(role))
const rights = { mayEdit: atLeast('worker'), mayManageDevices: atLeast('lead'), mayManageWorkers: atLeast('admin') }

/** Who is signed in, and what their role allows the page to offer. Central decides for itself. */
export function useSession() {
  async function load() {
    try {
      session.value = await ask(api.GET('/v1/session'))
      unreachable.value = false
    } catch (error) {
      session.value = undefined
      unreachable.value = error instanceof Problem && error.status === 0
    }
  }
  async function signIn(worker: string, password: string) {
    const before = session.value?.worker
    session.value = await ask(api.POST('/v1/session', { body: { worker, password } }))
    if (before && before !== worker) location.reload() // what is open was somebody else's to see
    ended.value = false
    sessionMoved()
  }
  async function signOut() {
    await ask(api.DELETE('/v1/session')).catch(() => undefined)
    session.value = undefined
    ended.value = false
    sessionMoved()
  }
  return { session, ended, unreachable, load, signIn, signOut, ...rights }
}
