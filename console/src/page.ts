import { onMounted, ref } from 'vue'

/**
 * What a page shows, got from central when it opens and whenever it is asked to look again, and what was wrong with the
 * last look. Of several looks under way, only the last counts: the others ask whether they still do.
 */
export function usePage<A extends unknown[]>(look: (counts: () => boolean, ...how: A) => Promise<void>, ...first: A) {
  const problem = ref('')
  const loading = ref(true)
  let latest = 0

  async function refresh(...how: A) {
    const mine = ++latest
    const counts = () => mine === latest
    try {
      await look(counts, ...how)
      if (counts()) problem.value = ''
    } catch (error) {
      if (counts()) problem.value = (error as Error).message
    } finally {
      if (counts()) loading.value = false
    }
  }
  onMounted(() => refresh(...first))
  return { problem, loading, refresh }
}
