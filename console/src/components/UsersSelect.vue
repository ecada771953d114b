<script setup lang="ts">
// Selects several users by a part of the name.
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api } from '../api/client'
import { usePaused } from '../app/debounce'

interface Choice {
  value: string
  title: string
  props: { subtitle: string }
}
defineProps<{ label: string }>()
const chosen = defineModel<string[]>({ required: true })
// Selected users are kept with their names while other words are searched.
const kept = ref<Choice[]>([])
const held = computed<Choice[]>({
  get: () => kept.value.filter((each) => chosen.value.includes(each.value)),
  set: (now) => {
    kept.value = now
    chosen.value = now.map((each) => each.value)
  },
})
const typed = ref('')
const words = usePaused(() => typed.value.trim(), 200)
const found = useQuery({
  queryKey: computed(() => ['users', 'choices', words.value]),
  placeholderData: keepPreviousData,
  queryFn: async (): Promise<Choice[]> => {
    const query = { q: words.value || undefined, count: 20 }
    const page = await answered(api.GET('/api/v1/users', { params: { query } }))
    return page.items.map((each) => ({
      value: each.id,
      title: each.display_name,
      props: { subtitle: each.user_name },
    }))
  },
})
</script>

<template>
  <v-autocomplete
    v-model="held"
    return-object
    :items="found.data.value ?? []"
    :label="label"
    multiple
    chips
    closable-chips
    no-filter
    :no-data-text="found.isFetching.value ? 'Searching …' : 'No matching user'"
    @update:search="typed = $event ?? ''"
  />
</template>
