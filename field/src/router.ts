import { createRouter, createWebHashHistory } from 'vue-router'
import HomePage from './pages/HomePage.vue'
import ListPage from './pages/ListPage.vue'
import RecordPage from './pages/RecordPage.vue'

/** The code of an enrolment link stands alone behind the #. */
const code = /^#?([A-Z0-9]{4}(?:-[A-Z0-9]{4})+)$/.exec(location.hash)?.[1]
if (code) history.replaceState(history.state, '', `#/enrol/${code}`)

// What is opened first, and most, comes with the app's first file; the rest is fetched beside it. Paths stand behind a #: they
// work under any path of central's, and without signal.
export const router = createRouter({
  history: createWebHashHistory(),
  routes: [
    { path: '/', name: 'home', component: HomePage },
    { path: '/enrol/:code?', name: 'enrol', component: () => import('./pages/EnrolPage.vue') },
    { path: '/unsent', name: 'unsent', component: () => import('./pages/UnsentPage.vue') },
    { path: '/device', name: 'device', component: () => import('./pages/DevicePage.vue') },
    { path: '/records/:collection', name: 'list', component: ListPage },
    { path: '/records/:collection/due', name: 'due', component: () => import('./pages/CoveragePage.vue') },
    { path: '/records/:collection/new', name: 'new', component: () => import('./pages/FormPage.vue') },
    { path: '/records/:collection/:id', name: 'record', component: RecordPage },
    { path: '/records/:collection/:id/edit', name: 'edit', component: () => import('./pages/FormPage.vue') },
    { path: '/:nowhere(.*)', redirect: '/' },
  ],
  scrollBehavior: (_, __, saved) => saved ?? { top: 0 },
})
