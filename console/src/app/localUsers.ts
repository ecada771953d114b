// Whether the organization has local users; otherwise the console hides what belongs to them.
import { useQuery } from '@tanstack/vue-query'
import { computed, type ComputedRef } from 'vue'
import { answered, api } from '../api/client'

export function useLocalUsers(): ComputedRef<boolean> {
  const settings = useQuery({
    queryKey: ['settings'],
    queryFn: () => answered(api.GET('/api/v1/settings')),
    staleTime: 30_000,
  })
  return computed(
    () => settings.data.value?.items.find((each) => each.name === 'local_users')?.value === true,
  )
}
