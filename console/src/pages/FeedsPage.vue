<script setup lang="ts">
import Button from 'primevue/button'
import { useConfirm } from 'primevue/useconfirm'
import { onUnmounted, ref } from 'vue'
import { api, ask, type FeedAside, type FeedStatus } from '../api/client'
import { ago, fullTime } from '../format'
import { useHeads } from '../live'
import { usePage } from '../page'
import EmptyNote from '../parts/EmptyNote.vue'
import ProblemNote from '../parts/ProblemNote.vue'

/** What goes from central to other systems: how far each feed is, what is wrong, and what a destination refused. */
const feeds = ref<FeedStatus[]>()
const aside = ref<{ [feed: string]: FeedAside[] }>({})
const busy = ref('')
const { problem, refresh } = usePage(async (still) => {
  const got = (await ask(api.GET('/v1/feeds'))) ?? []
  if (still()) feeds.value = got
})
useHeads(refresh)
// A feed works on its own, and says nothing when it has got further.
const often = setInterval(refresh, 3000)
onUnmounted(() => clearInterval(often))
const confirm = useConfirm()

const to = (one: FeedStatus) =>
  one.to.hook
    ? one.to.hook.url
    : one.to.files
      ? `${one.to.files.form} files in ${one.to.files.folder}`
      : `${one.to.tables?.rows === 'change' ? 'changes in ' : ''}tables of ${one.to.tables?.database ?? ''}`

async function act(one: FeedStatus, what: 'pause' | 'go on' | 'start anew') {
  await doing(one, async () => {
    await ask(api.POST('/v1/feeds/{name}/acts', { params: { path: { name: one.feed } }, body: { act: what } }))
  })
}
function startAnew(one: FeedStatus) {
  confirm.require({
    header: `Let ${one.title || one.feed} start anew?`,
    message: 'It goes over everything once more: what its destination has comes again.',
    acceptLabel: 'Start anew',
    rejectLabel: 'Cancel',
    rejectProps: { severity: 'secondary' },
    accept: () => act(one, 'start anew'),
  })
}
async function look(one: FeedStatus) {
  await doing(one, async () => {
    aside.value[one.feed] = (await ask(api.GET('/v1/feeds/{name}/aside', { params: { path: { name: one.feed }, query: { limit: 100 } } }))) ?? []
  })
}
async function resend(one: FeedStatus) {
  await doing(one, async () => {
    await ask(api.POST('/v1/feeds/{name}/aside', { params: { path: { name: one.feed } }, body: {} }))
    delete aside.value[one.feed]
  })
}
async function doing(one: FeedStatus, what: () => Promise<void>) {
  busy.value = one.feed
  try {
    await what()
    await refresh()
  } catch (error) {
    problem.value = (error as Error).message
  } finally {
    busy.value = ''
  }
}
</script>

<template>
  <div class="page">
    <div class="head">
      <h1>Feeds</h1>
      <span class="faint">what goes from here to other systems</span>
    </div>
    <ProblemNote v-if="problem" :problem="problem" @retry="refresh" />
    <EmptyNote v-if="feeds && !feeds.length" title="No feed yet"
      >A feed is a file: homing feeds define FILE keeps it. The guide says how one is written.</EmptyNote
    >
    <section v-for="one in feeds ?? []" :key="one.feed" class="sheet padded" :aria-label="one.feed">
      <div class="top">
        <h2>{{ one.title || one.feed }}</h2>
        <span :class="{ bad: one.state === 'waits', faint: one.state !== 'waits' }">{{ one.state }}</span>
        <span class="grow" />
        <Button v-if="one.state === 'paused'" label="Go on" size="small" :disabled="busy === one.feed" @click="act(one, 'go on')" />
        <template v-else>
          <Button v-if="one.state === 'waits'" label="Try now" size="small" :disabled="busy === one.feed" @click="act(one, 'go on')" />
          <Button label="Pause" size="small" severity="secondary" :disabled="busy === one.feed" @click="act(one, 'pause')" />
        </template>
        <Button label="Start anew" size="small" severity="secondary" :disabled="busy === one.feed" @click="startAnew(one)" />
      </div>
      <p class="faint"
        >{{ Object.keys(one.collections).join(', ') }} → {{ to(one) }}, as
        {{ one.sees === 'all' ? 'nobody in particular: all of it' : `${one.sees} may see it` }}</p
      >
      <p>
        {{ one.delivered.toLocaleString() }} brought<template v-if="one.delivered_at"
          >, the last <time :datetime="one.delivered_at" :title="fullTime(one.delivered_at)">{{ ago(one.delivered_at) }}</time></template
        ><template v-if="one.rate">, {{ one.rate.toLocaleString() }} within a minute</template>;
        {{ one.lag ? `${one.lag.toLocaleString()} behind` : 'nothing behind' }}
      </p>
      <p v-if="one.error" class="bad"
        >{{ one.error }}<template v-if="one.failed_at"> (since {{ fullTime(one.failed_at) }})</template></p
      >
      <template v-if="one.aside">
        <p
          ><b>{{ one.aside.toLocaleString() }} set aside</b>: the destination refuses {{ one.aside === 1 ? 'it' : 'them' }}.
          <Button v-if="!aside[one.feed]" label="Which" size="small" text :disabled="busy === one.feed" @click="look(one)" />
          <Button label="Send again" size="small" text :disabled="busy === one.feed" @click="resend(one)"
        /></p>
        <ul v-if="aside[one.feed]">
          <li v-for="a in aside[one.feed]" :key="a.place"
            ><RouterLink :to="`/records/${a.collection}/${a.record}`">{{ a.collection }}, revision {{ a.revision }}</RouterLink
            >: {{ a.reason }}</li
          >
        </ul>
      </template>
    </section>
  </div>
</template>

<style scoped>
.top {
  display: flex;
  flex-wrap: wrap;
  gap: 0.4rem 0.8rem;
  align-items: center;
}
h2 {
  margin: 0;
  font-size: 1.05rem;
  color: inherit;
}
.grow {
  flex: 1;
}
section {
  margin-bottom: 0.8rem;
}
p {
  margin: 0.4rem 0 0;
  overflow-wrap: anywhere;
}
</style>
