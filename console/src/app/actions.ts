// Actions that can fail: keeps the error to be shown, and tells all pages about a success.
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
