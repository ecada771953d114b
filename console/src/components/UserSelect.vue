<script setup lang="ts">
// Selects a user by a part of the name.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api } from '../api/client'

defineProps<{ label: string }>()
const chosen = defineModel<string | null>({ required: true })
const typed = ref('')
const found = useQuery({
  queryKey: computed(() => ['users', 'choice', typed.value]),
  queryFn: () =>
    answered(api.GET('/api/v1/users', { params: { query: { q: typed.value || undefined, count: 20 } } })),
  staleTime: 5000,
})
// A user that the URL selects is shown by name too.
const known = useQuery({
  queryKey: computed(() => ['users', 'selected', chosen.value]),
  enabled: computed(() =>
    Boolean(chosen.value && !found.data.value?.items.some((each) => each.id === chosen.value)),
  ),
  queryFn: () =>
    answered(api.GET('/api/v1/users/{user}', { params: { path: { user: chosen.value ?? '' } } })),
  staleTime: 60_000,
})
const items = computed(() => {
  const some = found.data.value?.items ?? []
  const alone = known.data.value
  const all =
    alone && alone.id === chosen.value && !some.some((each) => each.id === alone.id) ? [alone, ...some] : some
  return all.map((each) => ({
    title: each.display_name,
    value: each.id,
    props: { subtitle: each.user_name },
  }))
})
</script>

<template>
  <v-autocomplete
    v-model="chosen"
    :items="items"
    :label="label"
    no-filter
    clearable
    no-data-text="No matching user"
    @update:search="
      (text: string) => (typed = text && items.some((each) => each.title === text) ? typed : (text ?? ''))
    "
  />
</template>
