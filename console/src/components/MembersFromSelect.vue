<script setup lang="ts">
// Chooses who decides about the members of groups; for a group also the setting of its source.
import { computed } from 'vue'
import { membersFrom, type MembersFrom } from '../app/authority'

const props = defineProps<{ label: string; ofGroup?: boolean }>()
const chosen = defineModel<MembersFrom | 'source'>({ required: true })
const choices = computed(() => [
  ...(props.ofGroup ? [{ title: 'As the source says', value: 'source' }] : []),
  ...Object.entries(membersFrom).map(([value, title]) => ({ title, value })),
])
const hint = computed(() => {
  if (chosen.value === 'dravo')
    return 'Present members stay. Operators add and remove members here; what the source reports does not count.'
  if (chosen.value === 'all') return 'Members are the users that any connection type of the source reports.'
  if (chosen.value === 'source') return ''
  return 'What other connection types report is stored and does not count.'
})
</script>

<template>
  <v-select v-model="chosen" :items="choices" :label="label" :hint="hint" persistent-hint />
</template>
