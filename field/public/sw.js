// Keeps the app's own files, so that it opens without signal. Records are none of its business: they lie in the device's store,
// and what goes to central goes past it.
const version = '__VERSION__'
const files = __FILES__
/** Of languages: only what is spoken here is kept, by the browser's word or once it was chosen. */
const catalogues = __CATALOGUES__

const cacheName = `homing-field ${version}`
const scope = new URL('./', self.location.href)
const known = new Set([...files, ...catalogues].map((name) => new URL(name, scope).href))

// All of a version or nothing of it. It waits until nobody has a page of the one before open, or a page asks for it.
const spoken = catalogues.filter((name) =>
  self.navigator.languages.some((tag) => name.includes(`/${tag.split('-')[0]}-`)),
)

// All of a version or nothing of it. It waits until nobody has a page of the one before open, or a page asks for it.
self.addEventListener('install', (event) => event.waitUntil(keepAll()))

async function keepAll() {
  const cache = await caches.open(cacheName)
  await cache.addAll([...files, ...spoken].map((name) => new Request(new URL(name, scope), { cache: 'no-cache' })))
}

self.addEventListener('activate', (event) => {
  event.waitUntil(
    caches
      .keys()
      .then((names) =>
        Promise.all(
          names
            .filter((name) => name.startsWith('homing-field ') && name !== cacheName)
            .map((name) => caches.delete(name)),
        ),
      )
      .then(() => self.clients.claim()),
  )
})

self.addEventListener('message', (event) => {
  if (event.data === 'take over') self.skipWaiting()
})

self.addEventListener('fetch', (event) => {
  const { request } = event
  if (request.method !== 'GET') return
  const url = new URL(request.url)
  url.hash = ''
  url.search = ''
  const name = request.mode === 'navigate' && url.href === scope.href ? new URL('index.html', scope).href : url.href
  if (!known.has(name)) return
  event.respondWith(kept(name, request))
})

async function kept(name, request) {
  const cache = await caches.open(cacheName)
  const found = await cache.match(name)
  if (found) return found
  const fetched = await fetch(request)
  if (fetched.ok && catalogues.some((one) => name.endsWith(one))) await cache.put(name, fetched.clone())
  return fetched
}
