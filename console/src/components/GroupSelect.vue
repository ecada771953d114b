<script setup lang="ts">
// Selects one or several groups by a part of the name; each is shown with its source.
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../api/client'
import { usePaused } from '../app/debounce'
import { useMay } from '../app/session'
import ErrorMessage from './ErrorMessage.vue'

interface Choice {
  value: string
  title: string
  /** A group that exists only in claims; it is created when it is selected. */
  claimed?: Schemas['GroupInClaims']
}
const props = defineProps<{
  label: string
  source?: string | null
  several?: boolean
  claimed?: boolean
  /** The names of groups that are selected from the start, by ID. */
  known?: Map<string, string>
}>()
const may = useMay()
const chosen = defineModel<string[]>({ required: true })
// Selected groups are kept with their names while other words are searched.
const kept = ref<Choice[]>([])
const held = computed<Choice[] | Choice | null>({
  get: () => {
    const present = chosen.value.flatMap((value) => {
      const title = props.known?.get(value)
      const one = kept.value.find((each) => each.value === value)
      return one ? [one] : title ? [{ value, title }] : []
    })
    return props.several ? present : (present[0] ?? null)
  },
  set: (now) => {
    if (now && !Array.isArray(now) && now.claimed) return void make(now.claimed)
    kept.value = Array.isArray(now) ? now : now ? [now] : []
    chosen.value = kept.value.map((each) => each.value)
  },
})
const wrong = ref<unknown>(null)
const renewed = ref(0)
async function make({ source, name }: Schemas['GroupInClaims']): Promise<void> {
  try {
    const params = { path: { key: source.key } }
    const made = await answered(api.POST('/api/v1/sources/{key}/sign-in/groups', { params, body: { name } }))
    held.value = { value: made.id, title: `${made.name} · ${source.label} · no members yet` }
    wrong.value = null
    // The field keeps the clicked text; a new field shows the created group.
    renewed.value++
  } catch (problem) {
    wrong.value = problem
  }
}
const typed = ref('')
const words = usePaused(() => typed.value.trim(), 200)
function look(text: string | null): void {
  // The name of the selected group is not searched.
  if (!kept.value.some((each) => each.title === text)) typed.value = text ?? ''
}
const found = useQuery({
  queryKey: computed(() => ['groups', 'choice', props.source, words.value]),
  placeholderData: keepPreviousData,
  queryFn: async (): Promise<Choice[]> => {
    const query = { q: words.value || undefined, source: props.source ?? undefined, count: 20 }
    const page = await answered(api.GET('/api/v1/groups', { params: { query } }))
    const here: Choice[] = page.items.map((each) => ({
      value: each.id,
      title: `${each.name} · ${each.source?.label ?? 'local'} · ${each.members} members`,
    }))
    if (!props.claimed || !may('groups.change')) return here
    const claims = await answered(
      api.GET('/api/v1/claimed-groups', { params: { query: { q: words.value } } }),
    )
    const coming = claims.items.map((each) => ({
      value: `${each.source.key} ${each.name}`,
      title: `${each.name} · ${each.source.label} · reported at sign-in, not created yet`,
      claimed: each,
    }))
    return [...here, ...coming]
  },
})
</script>

<template>
  <ErrorMessage :wrong="wrong" />
  <v-autocomplete
    :key="renewed"
    v-model="held"
    return-object
    :items="found.data.value ?? []"
    :label="label"
    :multiple="several"
    :chips="several"
    :closable-chips="several"
    no-filter
    :no-data-text="found.isFetching.value ? 'Searching …' : 'No matching group'"
    @update:search="look"
  />
</template>
