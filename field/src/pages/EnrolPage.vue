<script setup lang="ts">
import ActButton from '../parts/ActButton.vue'
import InputText from '../parts/InputText.vue'
import { restore, type Progress } from 'homing-device/browser'
import { computed, onUnmounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { t } from '../../../faces/words'
import { definition, loadDefinitions } from '../definitions'
import { central, device, explain, look, store } from '../device'
import { focusOn } from '../page'
import IconSign from '../parts/IconSign.vue'

/** The way in: a code, a PIN, and what there is to load. */
const route = useRoute()
const router = useRouter()
const codeOf = (text: string) => /([A-Z0-9]{4}(?:-[A-Z0-9]{4}){2,})/i.exec(text)?.[1]?.toUpperCase()
const code = ref('')
// The address is read a moment after the page is there.
watch(
  () => route.params.code,
  (given) => (code.value = codeOf(String(given ?? '')) ?? code.value),
  { immediate: true },
)
const name = ref(/Android|iPhone|Mobile/.test(navigator.userAgent) ? t('Phone') : t('Laptop'))
const pin = ref('')
const again = ref('')
const step = ref<'code' | 'pin' | 'load'>('code')
const wrong = ref('')
const busy = ref(false)
const progress = ref<Progress>()
const host = new URL(central).host

async function enrol() {
  wrong.value = ''
  const read = codeOf(code.value)
  if (!read) {
    wrong.value = t(
      'This is no enrolment code. It looks like ABCD-EFGH-IJKL-MNOP, and whoever looks after central gives it out.',
    )
    return focusOn('#code')
  }
  if (!navigator.onLine) {
    wrong.value = t('There is no signal. The first time needs some: go where there is signal, and try again.')
    return
  }
  busy.value = true
  try {
    await store().enrol(central, read, name.value.trim() || t('Phone'))
    step.value = 'pin'
    await focusOn('#pin')
  } catch (error) {
    wrong.value = explain(error)
  } finally {
    busy.value = false
  }
}

async function setPin() {
  wrong.value =
    pin.value.length < 4
      ? t('Take at least 4 characters.')
      : pin.value !== again.value
        ? t('The two are not the same.')
        : ''
  if (wrong.value) return focusOn(pin.value.length < 4 ? '#pin' : '#again')
  busy.value = true
  try {
    await store().setSecret('', pin.value)
    step.value = 'load'
    await load()
  } catch (error) {
    wrong.value = explain(error)
  } finally {
    busy.value = false
  }
}

const title = computed(() => {
  const at = progress.value?.collection
  return at ? (definition(at)?.title ?? at) : ''
})
const loaded = ref<Record<string, { done: number; total: number }>>({})
const sum = computed(() =>
  Object.values(loaded.value).reduce((all, one) => ({ done: all.done + one.done, total: all.total + one.total }), {
    done: 0,
    total: 0,
  }),
)
let over = false
onUnmounted(() => {
  over = true
  scanning.value = false
})
async function load() {
  wrong.value = ''
  try {
    await store().exchange({
      watch: (now) => {
        if (!progress.value) void loadDefinitions(store()) // they come first of all
        progress.value = now
        device.exchanging = now
        if (now.collection && now.total) loaded.value[now.collection] = { done: now.done, total: now.total }
      },
    })
    device.exchanging = undefined
    await enter()
  } catch (error) {
    device.exchanging = undefined
    wrong.value = explain(error)
  }
}
/** What is here is usable while the rest comes. */
async function enter() {
  if (over) return look()
  await router.replace('/')
  await look()
}

const scanning = ref(false)
interface Reader {
  detect: (of: HTMLVideoElement) => Promise<{ rawValue: string }[]>
}
const canScan = 'BarcodeDetector' in window && !!navigator.mediaDevices
const video = ref<HTMLVideoElement>()
async function scan() {
  wrong.value = ''
  try {
    const stream = await navigator.mediaDevices.getUserMedia({ video: { facingMode: 'environment' } })
    scanning.value = true
    await focusOn('#stop')
    if (!video.value) return
    video.value.srcObject = stream
    await video.value.play()
    const reader = new (window as unknown as { BarcodeDetector: new (of: object) => Reader }).BarcodeDetector({
      formats: ['qr_code'],
    })
    while (scanning.value) {
      for (const { rawValue } of await reader.detect(video.value)) {
        const found = codeOf(rawValue)
        if (found && new URL(rawValue, location.href).origin === location.origin) {
          code.value = found
          scanning.value = false
        } else wrong.value = t('This QR code is of something else: {text}', { text: rawValue.slice(0, 60) })
      }
      await new Promise((resolve) => setTimeout(resolve, 250))
    }
    for (const track of stream.getTracks()) track.stop()
  } catch {
    scanning.value = false
    wrong.value = t('The camera cannot be used here. Type the code, or open the link in this browser.')
  }
}

const backup = ref<HTMLInputElement>()
async function restoreFrom(event: Event) {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (!file) return
  busy.value = true
  wrong.value = ''
  try {
    // The store that is open is empty: it makes room for what was backed up.
    const { storeName, worker } = await import('../device')
    await store().erase()
    store().close()
    await restore(file, storeName, { worker })
    location.reload()
  } catch (error) {
    wrong.value = explain(error)
    busy.value = false
  }
}
</script>

<template>
  <main id="main" class="page" tabindex="-1">
    <div class="emblem"
      ><svg viewBox="0 0 30 20" width="60" height="40" aria-hidden="true">
        <path
          d="M2 17 9 5l5 7 3-4 10 9"
          fill="none"
          stroke="currentColor"
          stroke-width="2"
          stroke-linejoin="round"
          stroke-linecap="round"
        />
        <circle cx="9" cy="5" r="2.2" fill="currentColor" /></svg
    ></div>
    <template v-if="step === 'code'">
      <h1>{{ t('Collect on this device') }}</h1>
      <p>{{
        t('It becomes a device of {host}: it loads what you cover, and from then on works without signal.', { host })
      }}</p>
      <form class="sheet padded" @submit.prevent="enrol">
        <label class="field" for="code"
          ><span class="name">{{ t('Enrolment code') }}</span
          ><InputText
            id="code"
            v-model="code"
            autocomplete="off"
            autocapitalize="characters"
            spellcheck="false"
            placeholder="ABCD-EFGH-IJKL-MNOP"
            :invalid="!!wrong"
            aria-describedby="says"
            fluid
        /></label>
        <video v-show="scanning" ref="video" muted playsinline />
        <button v-if="canScan && !scanning" type="button" class="btn" @click="scan"
          ><IconSign name="find" />{{ t('Scan the QR code') }}</button
        >
        <button v-if="scanning" id="stop" type="button" class="btn" @click="scanning = false">{{
          t('Stop scanning')
        }}</button>
        <label class="field" for="named"
          ><span class="name">{{ t('Name of this device') }}</span
          ><InputText id="named" v-model="name" autocomplete="off" fluid /><span class="hint">{{
            t('So that others know it from yours, such as Kell crew phone.')
          }}</span></label
        >
        <p v-if="wrong" id="says" class="wrong" role="alert">{{ wrong }}</p>
        <ActButton type="submit" :label="t('Enrol')" :loading="busy" />
      </form>
      <details
        ><summary>{{ t('I have a backup of a device that is lost') }}</summary>
        <p class="small">{{
          t(
            'It is made the store of this device under a new identity, so that nothing counts twice. The lost device must not be used any more.',
          )
        }}</p>
        <button type="button" class="btn" :disabled="busy" @click="backup?.click()">{{
          t('Restore from a file')
        }}</button><input
          ref="backup"
          type="file"
          class="hidden"
          tabindex="-1"
          aria-hidden="true"
          @change="restoreFrom"
      /></details>
      <details
        ><summary>{{ t('On a command line') }}</summary>
        <pre>homing local enrol --link '{{ central }}/enrol#{{ codeOf(code) ?? t('CODE') }}' --name NAME</pre>
      </details>
    </template>
    <template v-else-if="step === 'pin'">
      <h1>{{ t('Set a PIN') }}</h1>
      <p>{{
        t(
          'It keeps what you have not sent from others who use this device. Nobody can read it out: if you forget it, whoever looks after central gives you a new code.',
        )
      }}</p>
      <form class="sheet padded" @submit.prevent="setPin">
        <label class="field" for="pin"
          ><span class="name">{{ t('PIN or password') }}</span
          ><InputText
            id="pin"
            v-model="pin"
            type="password"
            autocomplete="new-password"
            :invalid="!!wrong"
            aria-describedby="says"
            fluid
        /></label>
        <label class="field" for="again"
          ><span class="name">{{ t('Once more') }}</span
          ><InputText
            id="again"
            v-model="again"
            type="password"
            autocomplete="new-password"
            aria-describedby="says"
            fluid
        /></label>
        <p v-if="wrong" id="says" class="wrong" role="alert">{{ wrong }}</p>
        <ActButton type="submit" :label="t('Set it and load')" :loading="busy" />
      </form>
    </template>
    <template v-else>
      <h1>{{ t('Loading what you cover') }}</h1>
      <div class="sheet padded">
        <p role="status">{{
          sum.total
            ? t('{title}: {n} of {total}', {
                title,
                n: loaded[progress?.collection ?? '']?.done ?? 0,
                total: loaded[progress?.collection ?? '']?.total ?? 0,
              })
            : t('Asking central what there is …')
        }}</p>
        <div
          class="bar-of"
          role="progressbar"
          :aria-label="t('Loaded')"
          :aria-valuenow="sum.done"
          :aria-valuemax="sum.total || 1"
          ><i :style="{ width: `${sum.total ? (100 * sum.done) / sum.total : 0}%` }"
        /></div>
        <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
        <ActButton v-if="wrong" :label="t('Go on')" @click="load" />
        <button type="button" class="btn" @click="enter">{{ t('Begin with what is here') }}</button>
      </div>
    </template>
  </main>
</template>

<style scoped>
.emblem {
  color: var(--accent);
  padding-top: 1rem;
}
video {
  width: 100%;
  border-radius: 8px;
  background: #000;
}
summary {
  min-height: 44px;
  display: flex;
  align-items: center;
  cursor: pointer;
  color: var(--accent);
  text-decoration: underline;
}
details[open] {
  display: grid;
  gap: 0.6rem;
}
pre {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  font-size: 0.85rem;
}
</style>
