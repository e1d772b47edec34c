import 'primeicons/primeicons.css'
import PrimeVue from 'primevue/config'
import ConfirmationService from 'primevue/confirmationservice'
import ToastService from 'primevue/toastservice'
import { createApp } from 'vue'
import { createRouter, createWebHistory } from 'vue-router'
import App from './App.vue'
import AccountPage from './pages/AccountPage.vue'
import AuditPage from './pages/AuditPage.vue'
import CollectionsPage from './pages/CollectionsPage.vue'
import ConflictsPage from './pages/ConflictsPage.vue'
import DevicesPage from './pages/DevicesPage.vue'
import EnrolPage from './pages/EnrolPage.vue'
import ExchangePage from './pages/ExchangePage.vue'
import ExchangesPage from './pages/ExchangesPage.vue'
import NowherePage from './pages/NowherePage.vue'
import PeoplePage from './pages/PeoplePage.vue'
import RecordPage from './pages/RecordPage.vue'
import RecordsPage from './pages/RecordsPage.vue'
import { preset } from './theme'
import './dark'
import './style.css'

// All pages come with the first one: when central goes away, they still open and say so.
const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', name: 'collections', component: CollectionsPage },
    { path: '/records/:collection', name: 'records', component: RecordsPage },
    { path: '/records/:collection/:id', name: 'record', component: RecordPage },
    { path: '/conflicts', name: 'conflicts', component: ConflictsPage },
    { path: '/devices', name: 'devices', component: DevicesPage },
    { path: '/exchanges', name: 'exchanges', component: ExchangesPage },
    { path: '/exchanges/:id', name: 'exchange', component: ExchangePage },
    { path: '/enrol', name: 'enrol', component: EnrolPage },
    { path: '/account', name: 'account', component: AccountPage },
    { path: '/audit', name: 'audit', component: AuditPage },
    { path: '/people', name: 'people', component: PeoplePage },
    { path: '/:rest(.*)', component: NowherePage },
  ],
})

createApp(App)
  .use(router)
  .use(PrimeVue, { theme: { preset, options: { darkModeSelector: '.dark' } } })
  .use(ToastService)
  .use(ConfirmationService)
  .mount('#app')
