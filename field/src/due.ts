// What is due of the places that whoever holds the device covers, as the device works it out.
import type { Coverage } from 'homing-device/browser'
import { onMounted, onUnmounted, shallowRef } from 'vue'
import { today } from '../../faces/periods'
import { definitions, type Definition } from './definitions'
import { store } from './device'

/** Collections of which records are expected, and whose places devices have. */
export const expecting = (): Definition[] => definitions().filter((of) => of.coverage)

/** The grids of some collections, worked out anew as records change. */
export function useCoverage(names: () => string[]) {
  const grids = shallowRef<Coverage[]>([])
  let stop: (() => void) | undefined
  let soon: ReturnType<typeof setTimeout> | undefined
  async function load() {
    const all = await Promise.all(
      names().map((name) =>
        store()
          .coverage(name, { today: today() })
          .catch(() => null),
      ),
    )
    grids.value = all.filter((one) => one !== null)
  }
  onMounted(async () => {
    await load()
    stop = store().listen(() => {
      clearTimeout(soon)
      soon = setTimeout(() => void load(), 250)
    })
  })
  onUnmounted(() => {
    stop?.()
    clearTimeout(soon)
  })
  return grids
}
