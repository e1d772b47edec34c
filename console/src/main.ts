import 'primeicons/primeicons.css'
import PrimeVue from 'primevue/config'
import ConfirmationService from 'primevue/confirmationservice'
import ToastService from 'primevue/toastservice'
import { createApp } from 'vue'
import { createRouter, createWebHistory } from 'vue-router'
import App from './App.vue'
import { preset } from './theme'
import './dark'
import './style.css'

const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', name: 'collections', component: () => import('./pages/CollectionsPage.vue') },
    { path: '/records/:collection', name: 'records', component: () => import('./pages/RecordsPage.vue') },
    { path: '/records/:collection/:id', name: 'record', component: () => import('./pages/RecordPage.vue') },
    { path: '/devices', name: 'devices', component: () => import('./pages/DevicesPage.vue') },
    { path: '/exchanges', name: 'exchanges', component: () => import('./pages/ExchangesPage.vue') },
    { path: '/people', name: 'people', component: () => import('./pages/PeoplePage.vue') },
    { path: '/:rest(.*)', component: () => import('./pages/NowherePage.vue') },
  ],
})

createApp(App)
  .use(router)
  .use(PrimeVue, { theme: { preset, options: { darkModeSelector: '.dark' } } })
  .use(ToastService)
  .use(ConfirmationService)
  .mount('#app')
