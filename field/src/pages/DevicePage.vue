<script setup lang="ts">
import ActButton from '../parts/ActButton.vue'
import InputText from '../parts/InputText.vue'
import { computed, onMounted, ref } from 'vue'
import { locale, t, tn } from '../../../faces/words'
import { definitions, lookedUp, spokenByDefinitions } from '../definitions'
import { central, device, explain, follow, look, moment, store, unfollow } from '../device'
import { ask, say } from '../notices'
import { installable } from '../offline'
import { usePage } from '../page'
import IconSign from '../parts/IconSign.vue'
import { language, languages, metered, settings, type Look } from '../settings'

/** What this device is, who uses it, what it keeps, and how it looks. */
usePage(() => t('Device'))
const room = ref<{ used: number; quota: number; persisted: boolean }>()
const loss = ref<string | null>(null)
const holdings = ref<Awaited<ReturnType<ReturnType<typeof store>['collections']>>>([])
onMounted(async () => {
  room.value = await store()
    .room()
    .catch(() => undefined)
  holdings.value = await store().collections()
})
const bytes = (n: number) =>
  t('{n} MB', { n: (n / 1e6).toLocaleString(locale(), { maximumFractionDigits: n < 1e7 ? 1 : 0 }) })

const wrong = ref('')
const busy = ref(false)
async function attempt(work: () => Promise<unknown>) {
  wrong.value = ''
  busy.value = true
  try {
    await work()
  } catch (error) {
    wrong.value = explain(error)
  } finally {
    busy.value = false
  }
}

const signOut = () =>
  attempt(async () => {
    const unsent = await store().signOut()
    unfollow()
    await look()
    if (unsent)
      say(
        tn(
          unsent,
          '{n} unsent change of yours is sealed on this device, and goes with anybody’s exchange.|{n} unsent changes of yours are sealed on this device, and go with anybody’s exchange.',
        ),
      )
  })

const pins = ref({ open: false, old: '', now: '' })
const setPin = () =>
  attempt(async () => {
    await store().setSecret(pins.value.old, pins.value.now)
    pins.value = { open: false, old: '', now: '' }
    say(t('The PIN is another now.'))
  })

const backUp = () =>
  attempt(async () => {
    hand(await store().backup())
    say(t('Backed up. Keep the file where the device is not.'))
  })

/** Hands a backup to whoever holds the device, as a file. */
function hand(blob: Blob) {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(blob)
  link.download = `homing-${device.worker}-${new Date().toISOString().slice(0, 16).replace(':', '')}.db`
  link.click()
  setTimeout(() => URL.revokeObjectURL(link.href), 60_000)
}

async function erase() {
  loss.value = await store().loss()
  const sure = await ask({
    title: t('Erase everything from this device?'),
    text: loss.value
      ? t('Something would be lost with it that is nowhere else: {loss}. Back it up or send it first.', {
          loss: loss.value,
        })
      : t('Nothing is unsent: central has it all. To collect here again, the device has to be enrolled again.'),
    yes: loss.value ? t('Erase it, and lose that') : t('Erase'),
    no: t('Keep it'),
    danger: true,
  })
  if (!sure) return
  await attempt(async () => {
    const backup = await store().erase({ discard: loss.value !== null })
    device.phase = 'opening' // nothing is asked of the store any more
    if (backup) hand(backup)
    setTimeout(() => location.reload(), backup ? 1500 : 0) // once the browser has taken the file
  })
}

/** What central has said of how this device behaves, but for its note, which stands above every page. */
const steered = computed(() =>
  Object.entries(device.steered.values)
    .filter(([name]) => name !== 'note')
    .map(([name, value]) => `${name.replaceAll('_', ' ')} ${String(value)}`)
    .join(', '),
)
const looks = computed<{ value: Look; say: string }[]>(() => [
  { value: 'system', say: t('As the device has it') },
  { value: 'light', say: t('Light') },
  { value: 'dark', say: t('Dark') },
  { value: 'contrast', say: t('High contrast') },
])
const tongues = computed(() =>
  [...new Set([...languages, ...spokenByDefinitions()])].map((tag) => ({
    tag,
    name: new Intl.DisplayNames([tag], { type: 'language' }).of(tag) ?? tag,
  })),
)
function choose(tag: string) {
  settings.language = tag
  setTimeout(() => location.reload(), 50) // once the setting is kept
}
function again() {
  unfollow()
  follow()
}
const install = () => installable.value?.prompt()
const onDemand = computed(() => definitions().filter(lookedUp))
</script>

<template>
  <div class="page">
    <section>
      <h2>{{ t('Who uses it') }}</h2>
      <ul class="sheet rows">
        <li v-for="one in device.people" :key="one.name" class="row"
          ><IconSign name="person" /><span class="grow"
            >{{ one.name }}<br /><span class="small faint">{{
              one.signedIn
                ? t('signed in')
                : one.unsent
                  ? tn(one.unsent, '{n} unsent, sealed|{n} unsent, sealed')
                  : t('signed out')
            }}</span></span
          ></li
        >
      </ul>
      <div class="acts">
        <button type="button" class="btn" :disabled="busy" @click="signOut"
          ><IconSign name="lock" />{{ t('Sign out') }}</button
        >
        <button type="button" class="btn" :aria-expanded="pins.open" @click="pins.open = !pins.open">{{
          t('Change the PIN')
        }}</button>
      </div>
      <p class="small faint">{{
        t(
          'Somebody else signs in after you have signed out, also without signal. What you have not sent stays sealed for you.',
        )
      }}</p>
      <form v-if="pins.open" class="sheet padded" @submit.prevent="setPin">
        <label class="field" for="old"
          ><span class="name">{{ t('PIN now') }}</span
          ><InputText id="old" v-model="pins.old" type="password" autocomplete="current-password" fluid
        /></label>
        <label class="field" for="fresh"
          ><span class="name">{{ t('New PIN or password') }}</span
          ><InputText id="fresh" v-model="pins.now" type="password" autocomplete="new-password" fluid
        /></label>
        <ActButton type="submit" :label="t('Set it')" :loading="busy" />
      </form>
    </section>
    <p v-if="wrong" class="banner bad" role="alert">{{ wrong }}</p>

    <section>
      <h2>{{ t('What it keeps') }}</h2>
      <div class="sheet padded">
        <template v-if="room">
          <p>{{
            t('{used} used, {left} left for this app', {
              used: bytes(room.used),
              left: bytes(Math.max(room.quota - room.used, 0)),
            })
          }}</p>
          <div
            class="bar-of"
            role="progressbar"
            :aria-label="t('Storage used')"
            :aria-valuenow="Math.round((100 * room.used) / Math.max(room.quota, 1))"
            aria-valuemin="0"
            aria-valuemax="100"
            ><i :style="{ width: `${(100 * room.used) / Math.max(room.quota, 1)}%` }"
          /></div>
          <p v-if="!room.persisted" class="small">{{
            t(
              'The browser has not promised to keep it: it may clear it when the device runs full. On the home screen, it usually promises.',
            )
          }}</p>
        </template>
        <ul class="plain">
          <li v-for="one in holdings" :key="one.name" class="small"
            ><span>{{ definitions().find((of) => of.collection === one.name)?.title ?? one.title }}</span
            ><span class="faint"
              >{{ tn(one.records, '{n} record|{n} records')
              }}{{ one.pulledAt ? ` · ${moment(one.pulledAt)}` : '' }}</span
            ></li
          >
        </ul>
        <p v-if="onDemand.length" class="small faint">{{
          t('Looked up at central when needed: {list}', { list: onDemand.map((of) => of.title).join(', ') })
        }}</p>
      </div>
      <div class="acts">
        <button type="button" class="btn" :disabled="busy" @click="backUp"
          ><IconSign name="copy" />{{ t('Back up to a file') }}</button
        >
        <button type="button" class="btn danger" :disabled="busy" @click="erase"
          ><IconSign name="remove" />{{ t('Erase this device') }}</button
        >
      </div>
    </section>

    <section>
      <h2>{{ t('Exchanges') }}</h2>
      <div class="sheet padded">
        <label class="switch"
          ><input v-model="settings.byItself" type="checkbox" @change="again" /><span>{{
            t('Exchange by itself when there is signal')
          }}</span></label
        >
        <label class="switch"
          ><input v-model="settings.holdMetered" type="checkbox" @change="again" /><span
            >{{ t('Hold back on links that cost by the byte')
            }}<span v-if="metered()" class="faint small"> · {{ t('this one does') }}</span></span
          ></label
        >
        <label class="field" for="every"
          ><span class="name">{{ t('How often') }}</span
          ><select id="every" v-model.number="settings.minutes" @change="again">
            <option v-for="n in [5, 15, 60, 240]" :key="n" :value="n">{{
              tn(n, 'every {n} minute|every {n} minutes')
            }}</option>
          </select></label
        >
        <p v-if="steered" class="small faint">{{ t('Set by central: {list}', { list: steered }) }}</p>
      </div>
    </section>

    <section>
      <h2>{{ t('Look and language') }}</h2>
      <div class="sheet padded">
        <div class="field" role="group" :aria-label="t('Look')"
          ><div class="chips"
            ><button
              v-for="one in looks"
              :key="one.value"
              type="button"
              class="chip"
              :aria-pressed="settings.look === one.value"
              @click="settings.look = one.value"
              >{{ one.say }}</button
            ></div
          ></div
        >
        <label class="field" for="tongue"
          ><span class="name">{{ t('Language') }}</span
          ><select id="tongue" :value="settings.language" @change="choose(($event.target as HTMLSelectElement).value)">
            <option value="">{{ t('As the browser has it ({language})', { language: language() }) }}</option>
            <option v-for="one in tongues" :key="one.tag" :value="one.tag" :lang="one.tag">{{ one.name }}</option>
          </select></label
        >
      </div>
    </section>

    <section v-if="installable">
      <button type="button" class="btn main whole" @click="install"
        ><IconSign name="plus" />{{ t('Put it on the home screen') }}</button
      >
    </section>
    <p class="small faint">{{ t('Central: {address}', { address: central }) }}</p>
  </div>
</template>

<style scoped>
section {
  display: grid;
  gap: 0.6rem;
}
.plain li {
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
  gap: 0 1rem;
  padding: 0.2rem 0;
}
.switch {
  display: flex;
  align-items: center;
  gap: 0.8rem;
  min-height: 48px;
}
.switch input {
  width: 26px;
  height: 26px;
  flex: none;
  accent-color: var(--accent);
}
</style>
