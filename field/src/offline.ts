// The service worker keeps the app's files, so that it opens without signal. A new version waits until whoever holds the device
// takes it: never in the middle of a form.
import { ref } from 'vue'

/** A new version is here and waits. */
export const newVersion = ref<ServiceWorker>()

/** What browsers ask before they put an app on the home screen, where they let a page ask. */
interface InstallQuestion extends Event {
  prompt: () => Promise<void>
}
export const installable = ref<InstallQuestion>()

/** Tells of a version once all of it is here. The first one is no news: nothing changes under this page. */
function watch(worker: ServiceWorker | null) {
  const look = () => {
    if (worker?.state === 'installed' && navigator.serviceWorker.controller) newVersion.value = worker
  }
  worker?.addEventListener('statechange', look)
  look()
}

export async function keepOffline() {
  addEventListener('appinstalled', () => (installable.value = undefined))
  addEventListener('beforeinstallprompt', (event) => {
    event.preventDefault()
    installable.value = event as InstallQuestion
  })
  if (!('serviceWorker' in navigator) || !import.meta.env.PROD) return
  try {
    const registration = await navigator.serviceWorker.register('./sw.js')
    watch(registration.waiting)
    watch(registration.installing)
    registration.addEventListener('updatefound', () => watch(registration.installing))
    const ask = () => void registration.update().catch(() => undefined)
    setInterval(ask, 3_600_000)
    addEventListener('online', ask)
  } catch {
    // This browser keeps no files for pages: the app opens while there is signal.
  }
}

/** Goes on with the new version. What stands in forms is kept as a draft, and is there again. */
export function takeNewVersion() {
  navigator.serviceWorker.addEventListener('controllerchange', () => location.reload(), { once: true })
  newVersion.value?.postMessage('take over')
}
