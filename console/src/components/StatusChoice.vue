<script setup lang="ts">
// Chooses a new status: disabled, pilot group or enabled, at once or, from disabled, at a later time.
import { ref, watch } from 'vue'
import BusyButton from './BusyButton.vue'

export type Status = 'disabled' | 'pilot' | 'enabled'
const props = defineProps<{
  now: Status
  /** When a disabled one is enabled, if that is scheduled. */
  enabledFrom: string | null | undefined
  /** What the wanted status does, in sentences; undefined if that is not known. */
  effects: string[] | undefined
  /** Whether the wanted status can be set. */
  ready: boolean
  busy: boolean
}>()
const wanted = defineModel<Status>({ required: true })
const emit = defineEmits<{ set: [status: Status, from: string | null] }>()
const hour = ref('')
watch(
  () => [props.now, props.enabledFrom],
  () => (hour.value = ''),
)
</script>

<template>
  <v-radio-group v-model="wanted" label="New status" hide-details inline>
    <v-radio value="disabled" label="Disabled" />
    <v-radio value="pilot" label="Pilot group" />
    <v-radio value="enabled" label="Enabled" />
  </v-radio-group>
  <slot />
  <div v-if="effects" role="status">
    <p v-for="each in effects" :key="each">{{ each }}</p>
  </div>
  <div class="row">
    <BusyButton
      color="primary"
      variant="outlined"
      :disabled="!ready"
      :busy="busy"
      @click="emit('set', wanted, null)"
      >Change status</BusyButton
    >
    <slot name="missing" />
    <template v-if="now === 'disabled'">
      <v-text-field v-model="hour" type="datetime-local" label="Enable from" class="hour" hide-details />
      <v-btn
        variant="outlined"
        :disabled="!hour"
        @click="emit('set', 'disabled', new Date(hour).toISOString())"
        >Schedule</v-btn
      >
      <v-btn v-if="enabledFrom" variant="text" @click="emit('set', 'disabled', null)">Remove schedule</v-btn>
    </template>
  </div>
</template>

<style scoped>
.row {
  align-items: center;
  display: flex;
  flex-wrap: wrap;
  gap: 12px;
  margin-top: 12px;
}
.hour {
  max-width: 260px;
}
p {
  margin: 0 0 8px;
}
</style>
