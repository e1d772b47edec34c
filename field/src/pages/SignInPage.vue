<script setup lang="ts">
import ActButton from '../parts/ActButton.vue'
import InputText from '../parts/InputText.vue'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { t, tn } from '../../../faces/words'
import { device, exchange, explain, look, store } from '../device'
import { focusOn } from '../page'
import IconSign from '../parts/IconSign.vue'

/** Who holds the device? It works without signal, but for somebody who is new here. */
const router = useRouter()
const chosen = ref('')
const pin = ref('')
const code = ref('')
const joining = ref(false)
const busy = ref(false)
const wrong = ref('')
const sealed = computed(() => device.people.filter((one) => one.unsent > 0))

async function choose(name: string) {
  chosen.value = name
  pin.value = ''
  wrong.value = ''
  await focusOn('#pin')
}
async function attempt(work: () => Promise<unknown>) {
  busy.value = true
  wrong.value = ''
  try {
    await work()
    if ((await store().status()).worker) await router.replace('/')
    await look()
  } catch (error) {
    wrong.value = explain(error)
    await focusOn('#pin')
  } finally {
    busy.value = false
  }
}
const signIn = () => attempt(() => store().signIn(chosen.value, pin.value))
const join = () => attempt(() => store().join(code.value.trim().toUpperCase(), pin.value))
const send = () => attempt(exchange)
</script>

<template>
  <main id="main" class="page" tabindex="-1">
    <h1>{{ t('Who are you?') }}</h1>
    <p v-if="sealed.length" class="banner"
      ><IconSign name="lock" /><span class="grow">{{
        tn(
          sealed.reduce((sum, one) => sum + one.unsent, 0),
          '{n} unsent change stays sealed here for whoever saved it, and goes with anybody’s exchange.|{n} unsent changes stay sealed here for whoever saved them, and go with anybody’s exchange.',
        )
      }}</span></p
    >
    <ul v-if="!joining" class="sheet rows">
      <li v-for="one in device.people" :key="one.name">
        <button type="button" class="row" :aria-expanded="chosen === one.name" @click="choose(one.name)"
          ><IconSign name="person" /><span class="grow">{{ one.name }}</span
          ><span v-if="one.unsent" class="mark mine">{{ tn(one.unsent, '{n} unsent|{n} unsent') }}</span></button
        >
        <form v-if="chosen === one.name" class="padded" @submit.prevent="signIn">
          <label class="field" for="pin"
            ><span class="name">{{ t('PIN or password') }}</span
            ><InputText
              id="pin"
              v-model="pin"
              type="password"
              autocomplete="current-password"
              :invalid="!!wrong"
              aria-describedby="says"
              fluid
          /></label>
          <p v-if="wrong" id="says" class="wrong" role="alert">{{ wrong }}</p>
          <ActButton type="submit" :label="t('Sign in')" :loading="busy" />
          <p class="small faint">{{
            t('Forgotten? Whoever looks after central gives you a new code: then choose “Somebody else”.')
          }}</p>
        </form>
      </li>
    </ul>
    <form v-else class="sheet padded" @submit.prevent="join">
      <p>{{ t('With an enrolment code of your own you can use this device, too. That needs signal once.') }}</p>
      <label class="field" for="code"
        ><span class="name">{{ t('Enrolment code') }}</span
        ><InputText id="code" v-model="code" autocomplete="off" autocapitalize="characters" fluid
      /></label>
      <label class="field" for="pin"
        ><span class="name">{{ t('PIN or password that you want to have here') }}</span
        ><InputText
          id="pin"
          v-model="pin"
          type="password"
          autocomplete="new-password"
          :invalid="!!wrong"
          aria-describedby="says"
          fluid
      /></label>
      <p v-if="wrong" id="says" class="wrong" role="alert">{{ wrong }}</p>
      <ActButton type="submit" :label="t('Use this device')" :loading="busy" />
    </form>
    <div class="acts">
      <button type="button" class="btn" @click="((joining = !joining), (wrong = ''), (chosen = ''))">{{
        joining ? t('Back') : t('Somebody else')
      }}</button>
      <button v-if="sealed.length" type="button" class="btn" :disabled="busy" @click="send">{{
        t('Send what is unsent')
      }}</button>
    </div>
    <p v-if="wrong && !chosen && !joining" class="wrong" role="alert">{{ wrong }}</p>
  </main>
</template>
