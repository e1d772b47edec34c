<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { useConfirm } from 'primevue/useconfirm'
import { useToast } from 'primevue/usetoast'
import { computed, ref } from 'vue'
import { api, ask, type Device, type Said, type Setting } from '../api/client'
import { fullTime, plural } from '../format'
import { useDeviceEvents } from '../live'
import { usePage } from '../page'
import EmptyNote from '../parts/EmptyNote.vue'
import ProblemNote from '../parts/ProblemNote.vue'

/** What is said of how devices behave, how many go by it, and which teams they are in. */
const toast = useToast()
const confirm = useConfirm()
const said = ref<Said[]>()
const known = ref<Setting[]>([])
const devices = ref<Device[]>([])
const { problem, loading, refresh } = usePage(async (counts) => {
  const [got, all] = await Promise.all([ask(api.GET('/v1/settings')), ask(api.GET('/v1/devices'))])
  if (!counts()) return
  said.value = got.settings ?? []
  known.value = got.known ?? []
  devices.value = (all ?? []).filter((d) => !d.revoked_at)
})
useDeviceEvents(() => refresh())

const teams = computed(() => [...new Set(devices.value.flatMap((d) => d.teams ?? []))].sort())
const behind = computed(() => devices.value.filter((d) => d.differs))
const odd = computed(() => devices.value.filter((d) => d.unknown_settings?.length))
const ofWhom = (one: Said) =>
  one.team ? `team ${one.team}` : one.device ? (devices.value.find((d) => d.id === one.device)?.name ?? 'a device that is gone') : 'all devices'

const name = ref<string>()
const value = ref('')
const whom = ref('all')
const share = ref(100)
const chosen = computed(() => known.value.find((one) => one.name === name.value))
const scopes = computed(() => [
  { value: 'all', label: 'all devices' },
  ...teams.value.map((team) => ({ value: `team ${team}`, label: `team ${team}` })),
  ...devices.value.map((d) => ({ value: `device ${d.id}`, label: d.name })),
])
const shares = [100, 50, 25, 10, 5]
const scopeOf = (text: string) => (text.startsWith('team ') ? { team: text.slice(5) } : text.startsWith('device ') ? { device: text.slice(7) } : {})
const wrong = ref('')
/** What is typed, as JSON: a text where the example is one. */
function typed(): unknown {
  const text = value.value.trim()
  return /^(true|false|\d+)$/.test(chosen.value?.example ?? '') && /^(true|false|\d+)$/.test(text) ? JSON.parse(text) : text
}
async function say(setting: string, to: unknown, scope: { team?: string; device?: string }, percent: number) {
  await ask(api.PUT('/v1/settings/{name}', { params: { path: { name: setting }, query: scope }, body: { value: to as never, share: percent } }))
  toast.add({ severity: 'success', summary: 'Said', detail: 'Devices take it over with their next exchange.', life: 4000 })
  await refresh()
}
async function submit() {
  if (!name.value) return
  wrong.value = ''
  try {
    await say(name.value, typed(), scopeOf(whom.value), share.value)
    value.value = ''
  } catch (error) {
    wrong.value = (error as Error).message
  }
}
async function widen(one: Said) {
  try {
    await say(one.name, one.value, { team: one.team, device: one.device }, 100)
  } catch (error) {
    problem.value = (error as Error).message
  }
}
function takeBack(one: Said) {
  confirm.require({
    header: `Take ${one.name} back?`,
    message: 'The devices go by what else is said of them, or by their own, with their next exchange.',
    acceptLabel: 'Take back',
    rejectLabel: 'Keep',
    rejectProps: { severity: 'secondary' },
    accept: async () => {
      try {
        await ask(api.DELETE('/v1/settings/{name}', { params: { path: { name: one.name }, query: { team: one.team, device: one.device } } }))
        await refresh()
      } catch (error) {
        problem.value = (error as Error).message
      }
    },
  })
}

const putting = ref<string>()
const into = ref('')
async function put(d: Device) {
  try {
    const list = into.value
      .split(',')
      .map((one) => one.trim())
      .filter(Boolean)
    await ask(api.PUT('/v1/devices/{id}/teams', { params: { path: { id: d.id } }, body: { teams: list } }))
    putting.value = undefined
    await refresh()
  } catch (error) {
    toast.add({ severity: 'error', summary: 'Not put into teams', detail: (error as Error).message, life: 9000 })
  }
}
</script>

<template>
  <div class="page">
    <p class="path"><RouterLink to="/devices">← Devices</RouterLink></p>
    <div class="head"><h1>Settings of devices</h1><span class="faint">how they behave; nothing here has a hold on what is unsent</span></div>
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh" />
    <template v-if="said && !loading">
      <section class="sheet">
        <EmptyNote v-if="!said.length" title="Nothing is said"
          >Each device goes by its own. What is said of one device goes before its teams', and that before all.</EmptyNote
        >
        <div v-else class="scroll"
          ><table class="plain">
            <thead>
              <tr><th>Of</th><th>Setting</th><th>Value</th><th>Goes to</th><th>Go by it</th><th>Said</th><td /></tr>
            </thead>
            <tbody>
              <tr v-for="one in said" :key="`${one.team} ${one.device} ${one.name}`">
                <td>{{ ofWhom(one) }}</td>
                <td
                  ><code>{{ one.name }}</code></td
                >
                <td class="value">{{ one.value }}</td>
                <td>{{ one.share }} %<Button v-if="one.share < 100" label="to all" text size="small" @click="widen(one)" /></td>
                <td :class="one.applied < one.devices ? 'warn' : 'good'">{{ one.applied }} of {{ one.devices }}</td>
                <td class="faint">{{ one.set_by }}, {{ fullTime(one.set_at) }}</td>
                <td
                  ><Button
                    icon="pi pi-times"
                    text
                    size="small"
                    :aria-label="`Take back ${one.name} of ${ofWhom(one)}`"
                    title="Take back"
                    @click="takeBack(one)"
                /></td>
              </tr> </tbody></table
        ></div>
      </section>
      <div class="columns">
        <form class="sheet padded form" @submit.prevent="submit">
          <h2>Say a setting</h2>
          <label class="field" for="name"
            ><span>Setting</span
            ><Select
              v-model="name"
              input-id="name"
              aria-label="Setting"
              :options="known"
              option-label="name"
              option-value="name"
              placeholder="Choose"
              fluid
            /><span v-if="chosen" class="hint">{{ chosen.about }}</span></label
          >
          <label class="field" for="value"
            ><span>Value</span><InputText id="value" v-model="value" :placeholder="chosen ? `such as ${chosen.example}` : ''" autocomplete="off" fluid
          /></label>
          <label class="field" for="whom"
            ><span>Of</span><Select v-model="whom" input-id="whom" aria-label="Of" :options="scopes" option-label="label" option-value="value" fluid
          /></label>
          <label class="field" for="share"
            ><span>To how many of them first</span
            ><Select v-model="share" input-id="share" aria-label="To how many of them first" :options="shares" :disabled="whom.startsWith('device ')" fluid
              ><template #value="slot">{{ slot.value }} %</template><template #option="slot">{{ slot.option }} %</template></Select
            ></label
          >
          <div class="actions"><Button type="submit" label="Say it" size="small" :disabled="!name || !value.trim()" /></div>
          <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
        </form>
        <section class="sheet padded">
          <h2>{{ behind.length ? `${plural(behind.length, 'device')} still to take them over` : 'All devices go by what is said of them' }}</h2>
          <ul class="devices">
            <li v-for="d in devices" :key="d.id">
              <RouterLink :to="`/devices/${d.id}`">{{ d.name }}</RouterLink>
              <span :class="d.differs ? 'warn' : 'faint'">{{
                d.differs ? 'with its next exchange' : d.applied_at && d.applied ? `since ${fullTime(d.applied_at)}` : 'by its own'
              }}</span>
              <form v-if="putting === d.id" class="into" @submit.prevent="put(d)" @keydown.esc="putting = undefined">
                <InputText v-model="into" size="small" aria-label="Teams, with commas between" placeholder="teams, with commas between" autofocus />
                <Button type="submit" label="Set" size="small" />
              </form>
              <Button
                v-else
                :label="d.teams?.length ? d.teams.join(', ') : 'no team'"
                text
                size="small"
                :aria-label="`Teams of ${d.name}: ${d.teams?.join(', ') || 'no team'}; change`"
                @click="((putting = d.id), (into = (d.teams ?? []).join(', ')))"
              />
            </li>
          </ul>
          <p v-for="d in odd" :key="`odd ${d.id}`" class="warn">{{ d.name }} does not know, or cannot take: {{ d.unknown_settings?.join(', ') }}</p>
        </section>
      </div>
    </template>
  </div>
</template>

<style scoped>
.path {
  margin: 0 0 0.4rem;
}
.scroll {
  overflow-x: auto;
}
.plain {
  width: 100%;
  border-collapse: collapse;
}
.plain th,
.plain td {
  padding: 0.35rem 0.9rem;
  text-align: left;
  border-bottom: 1px solid var(--line);
}
.plain thead th {
  font-size: 0.88rem;
}
.value {
  overflow-wrap: anywhere;
}
.columns {
  display: grid;
  grid-template-columns: minmax(0, 2fr) minmax(0, 3fr);
  gap: 1rem;
  margin-top: 1rem;
  align-items: start;
}
.form {
  display: grid;
  gap: 0.7rem;
}
.devices {
  list-style: none;
  margin: 0;
  padding: 0;
}
.devices li {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  justify-content: space-between;
  gap: 0.2rem 0.8rem;
  min-height: 2.2rem;
  border-bottom: 1px solid var(--line);
}
.into {
  display: flex;
  gap: 0.4rem;
}
@media (max-width: 900px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
