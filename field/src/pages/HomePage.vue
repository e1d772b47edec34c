<script setup lang="ts">
import type { DeviceRecord } from 'homing-device/browser'
import { computed, onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import { locale, t, tn } from '../../../faces/words'
import { childrenOf, definition, definitions, type Definition } from '../definitions'
import { ago, device, store } from '../device'
import { expecting, useCoverage } from '../due'
import { readDraft } from '../draft'
import { usePage } from '../page'
import { installable } from '../offline'
import IconSign from '../parts/IconSign.vue'
import MarkSigns from '../parts/MarkSigns.vue'
import { recent } from '../recent'
import { called, nameOf } from '../values'

usePage(() => t('Records'))
const router = useRouter()

/** A parent that is not here is none for whoever looks. */
const isRoot = (of: Definition) => !of.parent || !definition(of.parent.collection)

/** The collections as what belongs to what, with how deep each stands. */
const tree = computed(() => {
  const all: { of: Definition; depth: number }[] = []
  const put = (of: Definition, depth: number) => {
    if (all.some((one) => one.of === of)) return
    all.push({ of, depth })
    for (const child of childrenOf(of.collection)) put(child, depth + 1)
  }
  // Families first: they are where most work is.
  const roots = definitions().filter(isRoot)
  for (const of of roots) if (childrenOf(of.collection).length) put(of, 0)
  for (const of of roots) put(of, 0)
  return all
})

const seen = ref<DeviceRecord[]>([])
onMounted(async () => {
  for (const { collection, id } of recent(device.worker)) {
    const record = await store()
      .get(collection, id)
      .catch(() => undefined)
    if (record) seen.value.push(record)
  }
})

const grids = useCoverage(() => expecting().map((of) => of.collection))
const dues = computed(() =>
  grids.value
    .filter((grid) => grid.sums.expected)
    .map(({ collection, sums }) => ({ collection, sums, owed: sums.begun + sums.missing })),
)

const drafts = computed(() =>
  device.drafts.map((one) => {
    const draft = readDraft(one.text)
    const title = definition(one.collection)?.title ?? one.collection
    return {
      ...one,
      title,
      isNew: draft?.isNew === true,
      to: draft?.isNew
        ? `/records/${one.collection}/new?draft=${one.record}`
        : `/records/${one.collection}/${one.record}/edit`,
    }
  }),
)
</script>

<template>
  <div class="page">
    <section v-if="drafts.length">
      <h2>{{ t('Typed and not saved') }}</h2>
      <ul class="sheet rows">
        <li v-for="one in drafts" :key="one.record">
          <RouterLink :to="one.to" class="row"
            ><IconSign name="pen" /><span class="grow"
              >{{ one.isNew ? t('New in {title}', { title: one.title }) : called(one.collection, one.record)
              }}<br /><span class="faint small">{{ ago(one.at) }}</span></span
            ><IconSign name="next"
          /></RouterLink>
        </li>
      </ul>
    </section>
    <section v-if="dues.length">
      <h2>{{ t('Due') }}</h2>
      <ul class="sheet rows">
        <li v-for="one in dues" :key="one.collection">
          <RouterLink :to="`/records/${one.collection}/due`" class="row"
            ><IconSign :name="one.sums.late ? 'warn' : one.owed ? 'clock' : 'check'" /><span class="grow"
              ><span class="title">{{ definition(one.collection)?.title }}</span
              ><br /><span class="small" :class="one.sums.late ? 'late' : 'faint'"
                >{{ one.owed ? tn(one.owed, '{n} to do|{n} to do') : t('All is done.')
                }}{{ one.sums.late ? `, ${tn(one.sums.late, '{n} late|{n} late')}` : '' }}</span
              ></span
            ><IconSign name="next"
          /></RouterLink>
        </li>
      </ul>
    </section>
    <section>
      <h2>{{ t('What there is') }}</h2>
      <p v-if="tree.length === 0" class="sheet padded">{{
        t('Nothing is defined at central yet, or nothing of it is for you.')
      }}</p>
      <ul v-else class="sheet rows">
        <li v-for="{ of, depth } in tree" :key="of.collection">
          <button
            type="button"
            class="row"
            :style="{ paddingInlineStart: `${0.9 + depth * 1.1}rem` }"
            @click="router.push(`/records/${of.collection}`)"
            ><span class="grow"
              ><span class="title">{{ of.title }}</span
              ><MarkSigns :counts="device.counts[of.collection] ?? {}" /></span
            ><span class="faint count">{{ (device.counts[of.collection]?.records ?? 0).toLocaleString(locale()) }}</span
            ><IconSign name="next"
          /></button>
        </li>
      </ul>
    </section>
    <section v-if="seen.length">
      <h2>{{ t('Seen lately') }}</h2>
      <ul class="sheet rows">
        <li v-for="one in seen" :key="one.id">
          <RouterLink :to="`/records/${one.collection}/${one.id}`" class="row"
            ><span class="grow"
              >{{ nameOf(one) }}<br /><span class="faint small">{{ definition(one.collection)?.title }}</span></span
            ><IconSign name="next"
          /></RouterLink>
        </li>
      </ul>
    </section>
    <button v-else-if="installable" type="button" class="btn" @click="installable.prompt()"
      ><IconSign name="plus" />{{ t('Put it on the home screen') }}</button
    >
  </div>
</template>

<style scoped>
section {
  display: grid;
  gap: 0.5rem;
}
.late {
  color: var(--bad);
}
.title {
  font-weight: 600;
}
.count {
  font-variant-numeric: tabular-nums;
}
</style>
