// Something that may go wrong: what went wrong is kept to be shown, and what succeeded is seen everywhere.
import { useQueryClient } from '@tanstack/vue-query'
import { ref, type Ref } from 'vue'

interface Attempts {
  wrong: Ref<unknown>
  busy: Ref<boolean>
  attempt: (act: () => Promise<unknown>) => Promise<boolean>
}

export function useAttempts(): Attempts {
  const queries = useQueryClient()
  const wrong = ref<unknown>(null)
  const busy = ref(false)
  async function attempt(act: () => Promise<unknown>): Promise<boolean> {
    wrong.value = null
    busy.value = true
    try {
      await act()
      await queries.invalidateQueries()
      return true
    } catch (problem) {
      wrong.value = problem
      return false
    } finally {
      busy.value = false
    }
  }
  return { wrong, busy, attempt }
}
