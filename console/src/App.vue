<script setup lang="ts">
import Button from 'primevue/button'
import ConfirmDialog from 'primevue/confirmdialog'
import Dialog from 'primevue/dialog'
import Toast from 'primevue/toast'
import { computed, onMounted, ref, watch } from 'vue'
import type { RouteLocationNormalized } from 'vue-router'
import { useCollections } from './collections'
import { useDark } from './dark'
import { startLive, stopLive, useHeads, useLiveness } from './live'
import ProblemNote from './parts/ProblemNote.vue'
import SignIn from './parts/SignIn.vue'
import SignInForm from './parts/SignInForm.vue'
import { api, ask } from './api/client'
import { fetchPages, router } from './router'
import { useSession } from './session'

const { session, ended, unreachable, load, signOut, mayManageWorkers } = useSession()
const { dark, toggle } = useDark()
const live = useLiveness()
const ready = ref(false)

onMounted(async () => {
  await load()
  ready.value = true
  fetchPages()
})
const { collections, load: loadCollections } = useCollections()
/** Whether anything is expected of any place. */
const covers = computed(() => collections.value?.some((c) => c.coverage))
const open = ref(0) // conflicts
const count = () =>
  session.value &&
  ask(api.GET('/v1/conflicts/count')).then(
    (now) => (open.value = now.open),
    () => undefined,
  )
watch(
  () => session.value?.worker,
  (worker) => {
    if (worker) startLive()
    else stopLive()
    count()
    if (worker) loadCollections().catch(() => undefined)
  },
)
useHeads(count)
/** A page whose part of the program could not be fetched. */
const missing = ref<RouteLocationNormalized>()
router.onError((_, to) => (missing.value = to))
router.afterEach(() => (missing.value = undefined))
const again = () => missing.value && router.push(missing.value)
const skip = () => document.getElementById('main')?.focus()

const liveText = { off: 'Not listening', live: 'Live: changes show by themselves', lost: 'Connection lost; trying again' }
</script>

<template>
  <a v-if="session" href="#main" class="skip" @click.prevent="skip">Skip to what is on the page</a>
  <header v-if="session" class="bar">
    <RouterLink to="/" class="mark" aria-label="Homing: overview">
      <svg viewBox="0 0 30 20" aria-hidden="true">
        <path d="M2 17 9 5l5 7 3-4 10 9" />
        <circle cx="9" cy="5" r="2.2" />
      </svg>
      <span>Homing</span>
    </RouterLink>
    <nav aria-label="Main">
      <RouterLink to="/">Overview</RouterLink>
      <RouterLink to="/records" :class="{ here: ['records', 'record', 'import'].includes(String($route.name)) }">Records</RouterLink>
      <RouterLink v-if="covers" to="/coverage" :class="{ here: $route.name === 'coverage' }">Coverage</RouterLink>
      <RouterLink to="/changes">Changes</RouterLink>
      <RouterLink to="/conflicts"
        >Conflicts<span v-if="open" class="count" :title="`${open} open`">{{ open > 999 ? '999+' : open }}<span class="hidden"> open</span></span></RouterLink
      >
      <RouterLink to="/devices" :class="{ here: ['device', 'settings'].includes(String($route.name)) }">Devices</RouterLink>
      <RouterLink to="/exchanges" :class="{ here: $route.name === 'exchange' }">Exchanges</RouterLink>
      <RouterLink to="/definitions" :class="{ here: ['definitions', 'followUps'].includes(String($route.name)) }">Definitions</RouterLink>
      <RouterLink v-if="mayManageWorkers" to="/people">People</RouterLink>
      <RouterLink v-if="mayManageWorkers" to="/feeds">Feeds</RouterLink>
      <RouterLink v-if="mayManageWorkers" to="/audit">Audit</RouterLink>
      <RouterLink v-if="mayManageWorkers" to="/health">Health</RouterLink>
    </nav>
    <span class="grow" />
    <span class="live" :class="live" role="status" :title="liveText[live]"><i />{{ live === 'live' ? 'live' : live === 'lost' ? 'no connection' : '' }}</span>
    <RouterLink to="/account" class="who" title="Your account"
      >{{ session.worker }} <span v-if="session.role !== session.worker" class="role">{{ session.role }}</span></RouterLink
    >
    <Button
      :icon="dark() ? 'pi pi-sun' : 'pi pi-moon'"
      text
      size="small"
      class="tool"
      :aria-label="dark() ? 'Light look' : 'Dark look'"
      :title="dark() ? 'Light look' : 'Dark look'"
      @click="toggle"
    />
    <Button v-if="!session.open" icon="pi pi-sign-out" text size="small" class="tool" aria-label="Sign out" title="Sign out" @click="signOut" />
  </header>
  <p v-if="session?.open" class="open" role="alert"
    >Central is open: nobody needs to sign in, and everybody on this machine may do everything. For a first hour only.</p
  >
  <p v-for="warning in session?.warnings ?? []" :key="warning" class="open" role="alert">{{ warning }}</p>
  <main v-if="session" id="main" tabindex="-1"
    ><ProblemNote v-if="missing" problem="The page cannot be loaded: central cannot be reached." class="missing" @retry="again" /><RouterView
      :key="$route.path"
  /></main>
  <SignIn v-else-if="ready" :unreachable="unreachable" @retry="load" />
  <Dialog
    :visible="ended && !!session"
    modal
    :closable="false"
    :close-on-escape="false"
    header="Your sign-in has ended"
    :style="{ width: 'min(24rem, 94vw)' }"
    :base-z-index="9000"
  >
    <p>Sign in again, and go on where you were: what you have typed is still here.</p>
    <SignInForm :worker="session?.worker" />
    <Button label="Leave the page" text size="small" severity="secondary" class="leave" @click="signOut" />
  </Dialog>
  <Toast position="bottom-right" />
  <ConfirmDialog />
</template>

<style scoped>
.missing {
  margin: 1rem 1.25rem 0;
}
.bar {
  display: flex;
  align-items: center;
  gap: 1rem;
  padding: 0 1.25rem;
  height: 3rem;
  background: #26221d;
  color: #f3efe9;
  position: sticky;
  top: 0;
  z-index: 5;
}
.mark {
  display: flex;
  align-items: center;
  gap: 0.5rem;
  color: inherit;
  font-weight: 650;
  font-size: 1.08rem;
  letter-spacing: 0.01em;
}
.mark:hover {
  text-decoration: none;
}
.mark svg {
  width: 30px;
  height: 20px;
  fill: none;
  stroke: #e8a478;
  stroke-width: 2;
  stroke-linejoin: round;
  stroke-linecap: round;
}
.mark circle {
  fill: #26221d;
}
nav {
  display: flex;
  height: 100%;
  margin-left: 0.75rem;
  overflow-x: auto;
  scrollbar-width: none;
}
nav a {
  display: flex;
  align-items: center;
  padding: 0 0.7rem;
  white-space: nowrap;
  color: #c9c1b6;
  border-bottom: 3px solid transparent;
  border-top: 3px solid transparent;
}
.count {
  margin-left: 0.4rem;
  padding: 0 0.4rem;
  border-radius: 1rem;
  background: #a8501f;
  color: #fff;
  font-size: 0.82rem;
  font-weight: 600;
}
nav a:hover {
  color: #fff;
  text-decoration: none;
}
nav a.here,
nav a.router-link-exact-active {
  color: #fff;
  border-bottom-color: #db7d45;
}
.grow {
  flex: 1;
}
.live {
  display: inline-flex;
  align-items: center;
  gap: 0.4rem;
  font-size: 0.86rem;
  color: #b9b0a4;
  white-space: nowrap;
}
.live i {
  width: 8px;
  height: 8px;
  border-radius: 50%;
  background: #7a7268;
}
.live.live i {
  background: #6fc18f;
}
.live.lost i {
  background: #f2857c;
}
.who {
  white-space: nowrap;
  color: inherit;
}
.role {
  color: #b9b0a4;
  font-size: 0.86rem;
}
.tool.p-button {
  color: #d8d0c5;
}
.tool.p-button:not(:disabled):hover {
  background: #3b352e;
  color: #fff;
}
.open {
  margin: 0;
  padding: 0.4rem 1.25rem;
  background: #8a2f12;
  color: #fff;
  font-size: 0.92rem;
}
@media (max-width: 720px) {
  .bar {
    flex-wrap: wrap;
    height: auto;
    padding: 0.4rem 0.75rem 0;
    gap: 0.5rem;
  }
  nav {
    order: 9;
    width: 100%;
    margin: 0;
    height: 2.3rem;
  }
  .who .role,
  .mark span {
    display: none;
  }
}
</style>
