<script setup lang="ts">
// A group name pattern with the groups that match and the role of each.
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, watch } from 'vue'
import { answered, api } from '../../api/client'
import { useSourceChoices } from '../../app/choices'
import { usePaused } from '../../app/debounce'
import PatternGroups from './PatternGroups.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'

const props = defineProps<{ application: string }>()
const pattern = defineModel<string>('pattern', { required: true })
const source = defineModel<string | null>('source', { required: true })
const confirmed = defineModel<string[]>('confirmed', { required: true })
const sources = useSourceChoices()
watch(sources, (found) => (source.value ??= found[0]?.value ?? null), { immediate: true })

const asked = usePaused(() => pattern.value.trim(), 350)
const tried = useQuery({
  queryKey: computed(() => ['pattern', props.application, source.value, asked.value, confirmed.value]),
  enabled: computed(() => asked.value !== '' && source.value !== null),
  placeholderData: keepPreviousData,
  retry: false,
  queryFn: () =>
    answered(
      api.POST('/api/v1/applications/{key}/mapping/pattern', {
        params: { path: { key: props.application } },
        body: { source: source.value ?? '', pattern: asked.value, confirmed: confirmed.value },
      }),
    ),
})
const shown = computed(() => (asked.value && !tried.error.value ? tried.data.value : undefined))
</script>

<template>
  <div class="row">
    <v-autocomplete v-model="source" :items="sources" label="Source" />
    <v-text-field
      v-model="pattern"
      label="Pattern of group names"
      placeholder="^ticketdesk-(.+)$"
      persistent-placeholder
      hint="The part in parentheses is the role key"
      persistent-hint
      class="mono"
    />
  </div>
  <ErrorMessage :wrong="asked ? tried.error.value : null" />
  <div v-if="shown" role="status">
    <p class="reach">
      Matches <b>{{ shown.matching_users.toLocaleString('en') }}</b>
      {{ shown.matching_users === 1 ? 'user' : 'users' }}.
    </p>
    <PatternGroups v-model="confirmed" :groups="shown.groups" />
    <p v-for="note in shown.notes" :key="note.what" class="quiet">{{ note.what }} {{ note.hint }}</p>
  </div>
</template>

<style scoped>
p {
  margin: 2px 0;
}
</style>
