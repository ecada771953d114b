// Serious actions: a preview that is read while the dialog is open, and a text typed to confirm it.
import { useQuery, type UseQueryReturnType } from '@tanstack/vue-query'
import { computed, ref, watch, type Ref } from 'vue'
import { useAttempts } from './actions'

/**
 * @param open whether the dialog is open
 * @param key what the preview depends on
 * @param preview calls the API
 * @param ready whether the preview can be asked for
 */
export function useConfirmation<T>(
  open: Ref<boolean>,
  key: () => unknown[],
  preview: () => Promise<T>,
  ready: () => boolean = () => true,
): ReturnType<typeof useAttempts> & { typed: Ref<string>; effects: UseQueryReturnType<T, Error> } {
  const typed = ref('')
  const attempts = useAttempts()
  watch(open, () => {
    typed.value = ''
    attempts.wrong.value = null
  })
  const effects = useQuery({
    queryKey: computed(key),
    enabled: computed(() => open.value && ready()),
    retry: false,
    staleTime: 0,
    queryFn: preview,
  }) as UseQueryReturnType<T, Error>
  return { ...attempts, typed, effects }
}
