<script setup lang="ts">
import type { Cell } from 'homing-device/browser'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { sayDay, sayPeriod } from '../../../faces/periods'
import { t, tn } from '../../../faces/words'
import { definition } from '../definitions'
import { mayChange } from '../device'
import { useCoverage } from '../due'
import { usePage } from '../page'
import IconSign from '../parts/IconSign.vue'

/** What is due and what is late, period by period, with the way to each record, and to the one that is missing. */
const name = String(useRoute().params.collection)
const of = computed(() => definition(name))
usePage(
  () => t('Due: {title}', { title: of.value?.title ?? name }),
  () => '/',
)
const grids = useCoverage(() => [name])
const grid = computed(() => grids.value[0])
const all = ref(false)

const periods = computed(() =>
  (grid.value?.periods ?? [])
    .map((column, n) => ({
      ...column,
      rows: (grid.value?.places ?? [])
        .map((place) => ({ id: place.id, label: place.label, cell: place.cells[n] as Cell | undefined }))
        .filter(({ cell }) => cell && (all.value || (cell.expected && cell.state !== 'complete'))),
    }))
    .filter(({ rows }) => rows.length)
    .toReversed(),
)
const done = computed(() => grid.value?.sums.complete ?? 0)
const to = (place: string, period: string, cell: Cell) =>
  cell.record
    ? `/records/${name}/${cell.record}`
    : `/records/${name}/new?place=${place}&period=${encodeURIComponent(period)}`
function state(cell: Cell): string {
  if (cell.state === 'complete') return t('complete, by {who}', { who: cell.by ?? '' })
  return cell.state === 'begun' ? t('begun') : t('missing')
}
</script>

<template>
  <div class="page">
    <p v-if="!of?.coverage" class="banner warn">{{ t('Nothing is expected here.') }}</p>
    <template v-else-if="grid">
      <p v-if="grid.sums.expected" role="status"
        ><b>{{ t('{done} of {all} complete', { done, all: grid.sums.expected }) }}</b
        ><span v-if="grid.sums.late" class="bad"> · {{ tn(grid.sums.late, '{n} late|{n} late') }}</span></p
      >
      <p v-if="!periods.length" class="sheet padded">{{
        grid.sums.expected ? t('All is done.') : t('Nothing is expected of the places on this device.')
      }}</p>
      <section v-for="one in periods" :key="one.period">
        <h2
          >{{ sayPeriod(grid.kind, one.period)
          }}<span class="faint small due"> · {{ t('due {day}', { day: sayDay(one.due) }) }}</span></h2
        >
        <ul class="sheet rows">
          <li v-for="row in one.rows" :key="row.id">
            <component
              :is="row.cell!.record || mayChange(of) ? 'RouterLink' : 'span'"
              :to="to(row.id, one.period, row.cell!)"
              class="row"
              ><IconSign
                :name="row.cell!.state === 'complete' ? 'check' : row.cell!.state === 'begun' ? 'pen' : 'plus'" /><span
                class="grow"
                >{{ row.label || t('without a name') }}<br /><span
                  class="small"
                  :class="row.cell!.late ? 'bad' : 'faint'"
                  >{{ state(row.cell!) }}{{ row.cell!.late ? `, ${t('late')}` : '' }}</span
                ></span
              ><IconSign name="next"
            /></component>
          </li>
        </ul>
      </section>
      <button v-if="done" type="button" class="btn whole" :aria-pressed="all" @click="all = !all">{{
        all ? t('Only what is owed') : t('Show what is complete, too')
      }}</button>
    </template>
  </div>
</template>

<style scoped>
section {
  display: grid;
  gap: 0.5rem;
}
.due {
  font-weight: 400;
  white-space: nowrap;
}
.bad {
  color: var(--bad);
}
</style>
