<script setup lang="ts">
// A state: icon, word and colour, never colour alone.
import {
  mdiAccountOffOutline,
  mdiAlertOutline,
  mdiCheckCircleOutline,
  mdiClockOutline,
  mdiCloseCircleOutline,
  mdiMinusCircleOutline,
  mdiPauseCircleOutline,
} from '@mdi/js'
import { computed } from 'vue'

const props = defineProps<{ state: string; title?: string }>()

const kinds: Record<string, [string, string]> = {
  well: [mdiCheckCircleOutline, 'well'],
  look: [mdiAlertOutline, 'look'],
  waiting: [mdiClockOutline, 'look'],
  failed: [mdiCloseCircleOutline, 'failed'],
  rest: [mdiMinusCircleOutline, 'rest'],
  away: [mdiAccountOffOutline, 'rest'],
  paused: [mdiPauseCircleOutline, 'look'],
}
const states: Record<string, keyof typeof kinds> = {
  active: 'well',
  agreed: 'well',
  done: 'well',
  working: 'well',
  ok: 'well',
  opens: 'well',
  closed: 'rest',
  well: 'well',
  trouble: 'failed',
  'under way': 'waiting',
  due: 'waiting',
  waiting: 'waiting',
  failed: 'failed',
  held: 'look',
  open: 'look',
  drifting: 'look',
  full: 'look',
  same: 'well',
  differs: 'look',
  confirmed: 'well',
  'taken away': 'away',
  ended: 'rest',
  'running short': 'look',
  'ends soon': 'look',
  repairing: 'waiting',
  running: 'waiting',
  stopped: 'look',
  wrong: 'failed',
  'not yet': 'waiting',
  grave: 'failed',
  joined: 'well',
  left: 'away',
  changed: 'look',
  gives: 'well',
  new: 'well',
  'to repair': 'look',
  'to be confirmed': 'look',
  'no such role': 'look',
  expired: 'away',
  paused: 'paused',
  'not answering': 'failed',
  'not connected': 'look',
  'look at this': 'look',
  asked: 'waiting',
  missing: 'look',
  conflict: 'look',
  refused: 'failed',
  back: 'well',
  'in force': 'well',
  in: 'well',
  observed: 'well',
  'at the provider': 'waiting',
  'not opened': 'rest',
  over: 'rest',
  gained: 'well',
  kept: 'well',
  lost: 'away',
  known: 'well',
  made: 'look',
  'left out': 'rest',
  off: 'rest',
  pilot: 'look',
  everybody: 'well',
  signs: 'well',
  'comes next': 'waiting',
  'was used before': 'rest',
  'sign-in in force': 'well',
  'in preparation': 'look',
  inactive: 'away',
  gone: 'away',
}
const kind = computed(() => kinds[states[props.state] ?? 'rest'] ?? kinds.rest!)
</script>

<template>
  <span class="state" :style="{ color: `rgb(var(--v-theme-${kind[1]}))` }" :title="title">
    <v-icon :icon="kind[0]" size="18" aria-hidden="true" />{{ state }}
  </span>
</template>

<style scoped>
.state {
  display: inline-flex;
  align-items: center;
  gap: 5px;
  vertical-align: bottom;
  font-weight: 700;
  white-space: nowrap;
}
</style>
