<script setup lang="ts">
// The checklist items that real traffic has confirmed, each with its time.
import { mdiCheckboxBlankCircleOutline, mdiCheckboxMarkedCircleOutline } from '@mdi/js'
import type { Schemas } from '../api/client'
import TimeLabel from './TimeLabel.vue'

defineProps<{ ticks: Schemas['ChecklistItem'][] }>()
</script>

<template>
  <ul class="ticks">
    <li v-for="tick in ticks" :key="tick.what" :class="{ seen: tick.first_at }">
      <v-icon
        :icon="tick.first_at ? mdiCheckboxMarkedCircleOutline : mdiCheckboxBlankCircleOutline"
        size="20"
        :aria-label="tick.first_at ? 'verified' : 'not verified yet'"
      />
      <span>{{ tick.label }}</span>
      <TimeLabel :at="tick.first_at" never="not yet" />
    </li>
  </ul>
</template>

<style scoped>
.ticks {
  list-style: none;
  margin: 0 0 14px;
  padding: 0;
}
.ticks li {
  display: grid;
  grid-template-columns: 24px 1fr auto;
  gap: 8px;
  padding: 4px 0;
}
.ticks .seen .v-icon {
  color: rgb(var(--v-theme-well));
}
</style>
