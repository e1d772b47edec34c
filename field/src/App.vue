<script setup lang="ts">
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { t } from '../../faces/words'
import { device, refused, unsent } from './device'
import { newVersion, takeNewVersion } from './offline'
import { dismiss, notices, question } from './notices'
import { page } from './page'
import ActionSheet from './parts/ActionSheet.vue'
import IconSign from './parts/IconSign.vue'
import StatusBar from './parts/StatusBar.vue'
import SignInPage from './pages/SignInPage.vue'
import EnrolPage from './pages/EnrolPage.vue'

const route = useRoute()
const router = useRouter()
const waiting = computed(() => unsent.value)
/** In a form, only the form is there: what is below leads away from it. */
const inForm = computed(() => ['new', 'edit'].includes(String(route.name)))
const skip = () => document.getElementById('main')?.focus()

function goBack() {
  // Back where one came from; a page that was opened by its address has nothing behind it.
  if (history.state?.back) router.back()
  else void router.replace(page.back || '/')
}
async function act(notice: (typeof notices)[number]) {
  dismiss(notice.id)
  await notice.action?.run()
}
</script>

<template>
  <a href="#main" class="skip" @click.prevent="skip">{{ t('Skip to what is on the page') }}</a>
  <p v-if="device.phase === 'opening'" class="page" role="status">{{ t('Opening what is kept on this device …') }}</p>
  <main v-else-if="device.phase === 'broken'" id="main" class="page" tabindex="-1">
    <h1>{{ t('The app cannot open what it keeps') }}</h1>
    <p class="banner bad">{{ device.broken }}</p>
  </main>
  <EnrolPage v-else-if="device.phase === 'enrol'" />
  <SignInPage v-else-if="device.phase === 'signed-out'" />
  <template v-else>
    <header class="top">
      <button v-if="page.back" type="button" class="btn plain back" :aria-label="t('Back')" @click="goBack"
        ><IconSign name="back"
      /></button>
      <h1 tabindex="-1">{{ page.title }}</h1>
      <div id="tools" class="tools" />
    </header>
    <StatusBar v-if="!inForm" />
    <div v-if="newVersion && !inForm" class="banner new" role="status"
      ><p class="grow">{{ t('A new version of the app is here. What you typed is kept.') }}</p
      ><button type="button" class="btn" :disabled="!!device.exchanging" @click="takeNewVersion">{{
        t('Use it now')
      }}</button></div
    >
    <main id="main" tabindex="-1" :class="{ room: !inForm }"><RouterView :key="route.path" /></main>
    <nav v-if="!inForm" class="tabs" :aria-label="t('Main')">
      <RouterLink to="/" :class="{ on: ['home', 'list', 'record'].includes(String(route.name)) }"
        ><IconSign name="records" /><span>{{ t('Records') }}</span></RouterLink
      >
      <RouterLink to="/unsent" :class="{ on: route.name === 'unsent' }"
        ><IconSign name="send" /><span>{{ t('Unsent') }}</span
        ><b v-if="waiting" :class="{ bad: refused }">{{ waiting > 999 ? '999+' : waiting }}</b></RouterLink
      >
      <RouterLink to="/device" :class="{ on: route.name === 'device' }"
        ><IconSign name="device" /><span>{{ t('Device') }}</span></RouterLink
      >
    </nav>
  </template>

  <div class="notices" role="status" aria-live="polite">
    <div v-for="one in notices" :key="one.id" class="notice" :class="{ bad: one.bad }">
      <p class="grow">{{ one.text }}</p>
      <button v-if="one.action" type="button" class="btn" @click="act(one)">{{ one.action.label }}</button>
      <button type="button" class="btn plain" :aria-label="t('Close')" @click="dismiss(one.id)"
        ><IconSign name="close"
      /></button>
    </div>
  </div>

  <ActionSheet v-if="question" :title="question.of.title" @close="question.answer(false)">
    <p>{{ question.of.text }}</p>
    <div class="acts">
      <button
        type="button"
        class="btn"
        :class="question.of.danger ? 'danger' : 'main'"
        @click="question.answer(true)"
        >{{ question.of.yes }}</button
      >
      <button type="button" class="btn" @click="question.answer(false)">{{ question.of.no }}</button>
    </div>
  </ActionSheet>
</template>

<style scoped>
.skip {
  position: absolute;
  inset-inline-start: 0.6rem;
  top: -5rem;
  z-index: 20;
  padding: 0.7rem 1rem;
  background: var(--sheet);
  border: 2px solid var(--accent);
  border-radius: 8px;
}
.skip:focus {
  top: 0.4rem;
}
.top {
  display: flex;
  align-items: center;
  gap: 0.3rem;
  min-height: 56px;
  padding: env(safe-area-inset-top) 0.9rem 0;
  background: var(--sheet);
}
.top h1 {
  flex: 1;
  min-width: 0;
  padding: 0.3rem 0;
}
.top h1:focus {
  outline: none;
}
.back {
  margin-inline-start: -0.9rem;
}
.tools {
  display: flex;
  gap: 0.2rem;
  margin-inline-end: -0.7rem;
}
.room {
  padding-bottom: calc(72px + env(safe-area-inset-bottom));
}
.new {
  margin: 0.7rem 0.9rem 0;
  align-items: center;
}
.tabs {
  position: fixed;
  inset: auto 0 0;
  z-index: 5;
  display: flex;
  padding-bottom: env(safe-area-inset-bottom);
  background: var(--sheet);
  border-top: 1px solid var(--line);
}
.tabs a {
  position: relative;
  flex: 1;
  display: grid;
  justify-items: center;
  align-content: center;
  min-height: 62px;
  color: var(--faint);
  text-decoration: none;
  font-size: 0.82rem;
  font-weight: 550;
}
.tabs a.on {
  color: var(--accent);
  box-shadow: inset 0 3px 0 var(--accent);
}
.tabs b {
  position: absolute;
  top: 5px;
  inset-inline-start: calc(50% + 8px);
  min-width: 22px;
  padding: 0 5px;
  border-radius: 11px;
  background: var(--accent);
  color: var(--on-accent);
  text-align: center;
  font-size: 0.8rem;
}
.tabs b.bad {
  background: var(--bad);
  color: var(--sheet);
}
.notices {
  position: fixed;
  inset: auto 0 calc(72px + env(safe-area-inset-bottom));
  z-index: 10;
  display: grid;
  gap: 0.5rem;
  padding: 0 0.7rem;
  justify-items: center;
  pointer-events: none;
}
.notice {
  pointer-events: auto;
  display: flex;
  align-items: center;
  gap: 0.4rem;
  width: min(100%, 34rem);
  padding: 0.4rem 0.4rem 0.4rem 0.9rem;
  border-radius: 10px;
  background: var(--ink);
  color: var(--sheet);
  box-shadow: 0 2px 10px rgb(0 0 0 / 35%);
}
.notice.bad {
  background: var(--bad-tint);
  color: var(--bad);
  border: 1.5px solid var(--bad);
}
.notice .btn {
  background: none;
  color: inherit;
  border-color: currentColor;
}
.notice .btn.plain {
  border-color: transparent;
  padding: 0;
}
@media (min-width: 900px) {
  .top,
  .tabs {
    padding-inline: max(0.9rem, calc((100vw - 46rem) / 2 + 0.9rem));
  }
  .tabs a {
    grid-auto-flow: column;
    gap: 0.5rem;
    min-height: 54px;
    align-items: center;
    justify-content: center;
  }
  .tabs b {
    position: static;
  }
}
</style>
