<script setup lang="ts">
// Selects local groups by a part of the name.
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { answered, api } from '../../api/client'

const chosen = defineModel<string[]>({ required: true })
const found = useQuery({
  queryKey: ['groups', 'local'],
  queryFn: () => answered(api.GET('/api/v1/groups', { params: { query: { source: 'local', count: 500 } } })),
})
const items = computed(
  () => found.data.value?.items.map((each) => ({ title: each.name, value: each.id })) ?? [],
)
</script>

<template>
  <v-autocomplete
    v-model="chosen"
    :items="items"
    label="Local groups"
    multiple
    chips
    closable-chips
    no-data-text="No local groups"
    hide-details
  />
</template>
