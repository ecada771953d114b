<script setup lang="ts">
// A status: icon, word and color, never color alone.
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
import { inWords } from '../app/words'

const props = defineProps<{ status: string; title?: string }>()

const kinds: Record<string, [string, string]> = {
  well: [mdiCheckCircleOutline, 'well'],
  look: [mdiAlertOutline, 'look'],
  waiting: [mdiClockOutline, 'look'],
  failed: [mdiCloseCircleOutline, 'failed'],
  rest: [mdiMinusCircleOutline, 'rest'],
  away: [mdiAccountOffOutline, 'rest'],
  paused: [mdiPauseCircleOutline, 'look'],
}
const statuses: Record<string, keyof typeof kinds> = {
  active: 'well',
  in_sync: 'well',
  done: 'well',
  ok: 'well',
  opens: 'well',
  closed: 'rest',
  pending: 'waiting',
  waiting: 'waiting',
  manual: 'look',
  create: 'well',
  change: 'look',
  deactivate: 'away',
  delete: 'away',
  failed: 'failed',
  held: 'look',
  open: 'look',
  solved: 'well',
  happened: 'rest',
  sent: 'well',
  collected: 'waiting',
  unknown: 'look',
  approved: 'well',
  accepted: 'well',
  withdrawn: 'rest',
  scheduled: 'waiting',
  drifting: 'look',
  full: 'look',
  same: 'well',
  differs: 'look',
  confirmed: 'well',
  removed: 'away',
  ended: 'rest',
  short: 'look',
  expires_soon: 'look',
  repairing: 'waiting',
  running: 'waiting',
  stopped: 'look',
  invalid: 'failed',
  joined: 'well',
  left: 'away',
  changed: 'look',
  gives: 'well',
  new: 'well',
  needs_confirmation: 'look',
  unknown_role: 'look',
  several_roles: 'look',
  unexpected: 'look',
  different: 'look',
  'no user': 'look',
  highest_role: 'look',
  expired: 'away',
  paused: 'paused',
  not_answering: 'failed',
  not_set_up: 'look',
  warning: 'look',
  missing: 'look',
  conflict: 'look',
  refused: 'failed',
  back: 'well',
  enabled: 'well',
  signed_in: 'well',
  observed: 'well',
  at_provider: 'waiting',
  not_opened: 'rest',
  gained: 'well',
  kept: 'well',
  retained: 'well',
  lost: 'away',
  existing: 'well',
  created: 'look',
  ignored: 'rest',
  pilot: 'look',
  next: 'waiting',
  previous: 'rest',
  disabled: 'look',
  inactive: 'away',
}
const kind = computed(() => kinds[statuses[props.status] ?? 'rest'] ?? kinds.rest!)
</script>

<template>
  <span class="status" :style="{ color: `rgb(var(--v-theme-${kind[1]}))` }" :title="title">
    <v-icon :icon="kind[0]" size="18" aria-hidden="true" />{{ inWords(status) }}
  </span>
</template>

<style scoped>
.status {
  display: inline-flex;
  align-items: center;
  gap: 5px;
  vertical-align: bottom;
  font-weight: 700;
  white-space: nowrap;
}
</style>
