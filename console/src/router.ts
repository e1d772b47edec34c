import { nextTick } from 'vue'
import { createRouter, createWebHistory, type RouteRecordRaw } from 'vue-router'

declare module 'vue-router' {
  interface RouteMeta {
    /** What the browser's tab says until the page knows better. */
    title?: string
  }
}

const pages = {
  overview: () => import('./pages/OverviewPage.vue'),
  coverage: () => import('./pages/CoveragePage.vue'),
  collections: () => import('./pages/CollectionsPage.vue'),
  records: () => import('./pages/RecordsPage.vue'),
  record: () => import('./pages/RecordPage.vue'),
  changes: () => import('./pages/ChangesPage.vue'),
  import: () => import('./pages/ImportPage.vue'),
  conflicts: () => import('./pages/ConflictsPage.vue'),
  devices: () => import('./pages/DevicesPage.vue'),
  device: () => import('./pages/DevicePage.vue'),
  exchanges: () => import('./pages/ExchangesPage.vue'),
  exchange: () => import('./pages/ExchangePage.vue'),
  account: () => import('./pages/AccountPage.vue'),
  audit: () => import('./pages/AuditPage.vue'),
  feeds: () => import('./pages/FeedsPage.vue'),
  followUps: () => import('./pages/FollowUpsPage.vue'),
  settings: () => import('./pages/SettingsPage.vue'),
  people: () => import('./pages/PeoplePage.vue'),
  reach: () => import('./pages/ReachPage.vue'),
  definitions: () => import('./pages/DefinitionsPage.vue'),
  health: () => import('./pages/HealthPage.vue'),
  nowhere: () => import('./pages/NowherePage.vue'),
}
const at = (path: string, name: keyof typeof pages, title: string): RouteRecordRaw => ({ path, name, component: pages[name], meta: { title } })

export const router = createRouter({
  history: createWebHistory(),
  scrollBehavior: (to, from, saved) => saved ?? (to.path === from.path ? undefined : { top: 0 }),
  routes: [
    at('/', 'overview', 'Overview'),
    at('/records', 'collections', 'Records'),
    at('/records/:collection', 'records', 'Records'),
    at('/records/:collection/:id', 'record', 'Record'),
    at('/coverage/:collection?', 'coverage', 'Coverage'),
    at('/changes', 'changes', 'Changes'),
    at('/import', 'import', 'Bring in a table'),
    at('/conflicts', 'conflicts', 'Conflicts'),
    at('/devices', 'devices', 'Devices'),
    at('/devices/:id', 'device', 'Device'),
    at('/exchanges', 'exchanges', 'Exchanges'),
    at('/exchanges/:id', 'exchange', 'Exchange'),
    at('/account', 'account', 'Your account'),
    at('/audit', 'audit', 'Audit'),
    at('/feeds', 'feeds', 'Feeds'),
    at('/follow-ups', 'followUps', 'Follow-ups'),
    at('/settings', 'settings', 'Settings of devices'),
    at('/people', 'people', 'People'),
    at('/people/:name', 'reach', 'What they get and may do'),
    at('/definitions/:collection?', 'definitions', 'Definitions'),
    at('/health', 'health', 'Health'),
    at('/:rest(.*)', 'nowhere', 'No such page'),
  ],
})

/** What the browser's tab says. */
export const setTitle = (title: string) => (document.title = `${title} · Homing`)

router.afterEach((to, from, failure) => {
  if (failure || (to.path === from.path && from.matched.length)) return
  setTitle(to.meta.title ?? 'Console')
  // Whoever reads by ear, or goes on by keyboard, is at the new page. The first one leaves the focus where the browser has it.
  if (from.matched.length) nextTick(() => document.getElementById('main')?.focus({ preventScroll: true }))
})

/** Fetches the other pages once the first one stands: should central go away, they still open and say so. */
export async function fetchPages() {
  for (const page of Object.values(pages)) {
    await new Promise<void>((resolve) => ('requestIdleCallback' in window ? requestIdleCallback(() => resolve()) : setTimeout(resolve, 500)))
    await page().catch(() => undefined)
  }
}
