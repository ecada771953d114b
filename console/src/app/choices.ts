// Applications and sources by name, to choose from.
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { answered, api } from '../api/client'

const query = { count: 500 }

function named(items: { key: string; label: string }[] | undefined) {
  return items?.map((each) => ({ title: each.label, value: each.key })) ?? []
}

export function useApplicationChoices() {
  const found = useQuery({
    queryKey: ['applications', 'names'],
    queryFn: () => answered(api.GET('/api/v1/applications', { params: { query } })),
  })
  return computed(() => named(found.data.value?.items))
}

export function useSourceChoices() {
  const found = useQuery({
    queryKey: ['sources', 'names'],
    queryFn: () => answered(api.GET('/api/v1/sources', { params: { query } })),
  })
  return computed(() => named(found.data.value?.items))
}
