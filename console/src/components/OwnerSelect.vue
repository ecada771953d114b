<script setup lang="ts">
// Chooses the operator who owns an application. Others than super administrators see the owner only.
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { answered, api } from '../api/client'
import { useMay } from '../app/session'

const name = defineModel<string>({ required: true })
const may = useMay()
const changeable = computed(() => may('operators.change'))
const OWNERS = ['super_administrator', 'administrator', 'application_owner']
const operators = useQuery({
  queryKey: ['operators', 'owners'],
  enabled: changeable,
  queryFn: () => answered(api.GET('/api/v1/operators', { params: { query: { count: 500 } } })),
})
const names = computed(() => {
  const found = (operators.data.value?.items ?? [])
    .filter((each) => OWNERS.includes(each.kind) && !each.disabled_at)
    .map((each) => each.name)
  return name.value && !found.includes(name.value) ? [name.value, ...found] : found
})
</script>

<template>
  <v-autocomplete
    v-if="changeable"
    :model-value="name || null"
    :items="names"
    label="Owner"
    hint="This operator can change the assignments of the application."
    persistent-hint
    clearable
    @update:model-value="name = $event ?? ''"
  />
  <v-text-field
    v-else-if="name"
    :model-value="name"
    label="Owner"
    hint="Only super administrators can change the owner."
    persistent-hint
    readonly
  />
</template>
