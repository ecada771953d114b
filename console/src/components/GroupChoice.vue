<script setup lang="ts">
// A group to choose, or several, found by typing a part of the name; each with its source, for names alone say nothing.
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api } from '../api/client'
import { usePaused } from '../app/pausing'

interface Choice {
  value: string
  title: string
}
const props = defineProps<{ label: string; source?: string | null; several?: boolean }>()
const chosen = defineModel<string[]>({ required: true })
// Whole choices are kept, so that they keep their names while other words are looked for.
const kept = ref<Choice[]>([])
const held = computed<Choice[] | Choice | null>({
  get: () => {
    const present = kept.value.filter((each) => chosen.value.includes(each.value))
    return props.several ? present : (present[0] ?? null)
  },
  set: (now) => {
    kept.value = Array.isArray(now) ? now : now ? [now] : []
    chosen.value = kept.value.map((each) => each.value)
  },
})
const typed = ref('')
const words = usePaused(() => typed.value.trim(), 200)
function look(text: string | null): void {
  // The name of what is chosen is no word to look for.
  if (!kept.value.some((each) => each.title === text)) typed.value = text ?? ''
}
const found = useQuery({
  queryKey: computed(() => ['groups', 'choice', props.source, words.value]),
  placeholderData: keepPreviousData,
  queryFn: async (): Promise<Choice[]> => {
    const query = { q: words.value || undefined, source: props.source ?? undefined, count: 20 }
    const page = await answered(api.GET('/api/v1/groups', { params: { query } }))
    return page.items.map((each) => ({
      value: each.id,
      title: `${each.name} · ${each.source?.label ?? 'local'} · ${each.members} members`,
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
    :multiple="several"
    :chips="several"
    :closable-chips="several"
    no-filter
    :no-data-text="found.isFetching.value ? 'Looking …' : 'No group fits'"
    @update:search="look"
  />
</template>
