<script setup lang="ts">
// The provisioning status of an application: disabled, pilot group, enabled, or enabled from a date and time.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useMay } from '../../app/session'
import ErrorMessage from '../../components/ErrorMessage.vue'
import GroupSelect from '../../components/GroupSelect.vue'
import StatusChoice, { type Status } from '../../components/StatusChoice.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
const may = useMay()
const params = { path: { key: props.application.key } }
const present = computed(() => props.application.provisioning)
const now = computed<Status>(() => (present.value.status === 'scheduled' ? 'disabled' : present.value.status))
const wanted = ref<Status>(now.value)
const pilot = ref<string[]>([])
watch(
  () => JSON.stringify(present.value),
  () => ((wanted.value = now.value), (pilot.value = [])),
)
const body = computed(() => ({ status: wanted.value, pilot_group: pilot.value[0] ?? null }))
const missing = computed(() => wanted.value === 'pilot' && !pilot.value.length && !present.value.pilot_group)
const changed = computed(
  () => wanted.value !== now.value || (wanted.value === 'pilot' && pilot.value.length > 0),
)
const effects = useQuery({
  queryKey: computed(() => ['applications', props.application.key, 'status', body.value]),
  enabled: computed(() => changed.value && !missing.value),
  retry: false,
  staleTime: 0,
  queryFn: () =>
    answered(api.POST('/api/v1/applications/{key}/status/preview', { params, body: body.value })),
})
const { wrong, busy, attempt } = useAttempts()
const set = (status: Status, from: string | null) =>
  attempt(async () => {
    const wish = { ...body.value, status, enabled_from: from }
    await answered(api.PUT('/api/v1/applications/{key}/status', { params, body: wish }))
  })
const meaning: Record<Status, string> = {
  disabled: 'Dravo creates, changes and removes no accounts. Changes wait.',
  pilot: 'Only the accounts of the members of the pilot group are created, changed and removed.',
  enabled: 'Dravo provisions all users with access.',
}
</script>

<template>
  <section aria-labelledby="provisioning-status">
    <h2 id="provisioning-status">Provisioning status</h2>
    <ErrorMessage :wrong="wrong ?? (changed && !missing ? effects.error.value : null)" />
    <p>
      <StatusLabel :status="present.status" />
      {{ meaning[now] }}
      <template v-if="present.pilot_group">
        Pilot group:
        <router-link v-if="!present.pilot_group.gone" :to="`/groups/${present.pilot_group.id}`">{{
          present.pilot_group.name
        }}</router-link>
        <template v-else>{{ present.pilot_group.name }}</template>.
      </template>
      <template v-if="present.enabled_from"> Enabled from <TimeLabel :at="present.enabled_from" />.</template>
    </p>
    <template v-if="may('applications.change')">
      <StatusChoice
        v-model="wanted"
        :now="now"
        :enabled-from="present.enabled_from"
        :effects="changed ? effects.data.value?.effects : undefined"
        :ready="changed && !missing && !effects.isFetching.value && !effects.isError.value"
        :busy="busy"
        @set="set"
      >
        <div v-if="wanted === 'pilot'" class="group">
          <GroupSelect v-model="pilot" label="Pilot group" />
        </div>
        <template #missing>
          <span v-if="missing" class="quiet">Choose the pilot group.</span>
        </template>
      </StatusChoice>
    </template>
  </section>
</template>

<style scoped>
.group {
  max-width: 480px;
}
p {
  max-width: 480px;
}
.hour {
  max-width: 260px;
}
p {
  margin: 0 0 8px;
}
</style>
