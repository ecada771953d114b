// Something that may go wrong: what went wrong is kept to be shown, and what succeeded is seen everywhere.
import { useQueryClient } from '@tanstack/vue-query'
import { ref, type Ref } from 'vue'

export function useAttempts(): { wrong: Ref<unknown>; attempt: (act: () => Promise<unknown>) => Promise<boolean> } {
  const queries = useQueryClient()
  const wrong = ref<unknown>(null)
  async function attempt(act: () => Promise<unknown>): Promise<boolean> {
    wrong.value = null
    try {
      await act()
      await queries.invalidateQueries()
      return true
    } catch (problem) {
      wrong.value = problem
      return false
    }
  }
  return { wrong, attempt }
}
