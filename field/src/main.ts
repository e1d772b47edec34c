import { createApp } from 'vue'
import App from './App.vue'
import { start } from './device'
import { keepOffline } from './offline'
import { router } from './router'
import { learn, show } from './settings'
import './style.css'

show()
void start()
await learn()
createApp(App).use(router).mount('#app')
void keepOffline()
