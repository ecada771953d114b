<script setup lang="ts">
// The status of a connection type: disabled, pilot group, enabled, or enabled from a date and time.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useMay } from '../../app/session'
import BusyButton from '../../components/BusyButton.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

type Status = 'disabled' | 'pilot' | 'enabled'
const props = defineProps<{ source: string; detail: Schemas['SourcePolicyDetail'] }>()
const queries = useQueryClient()
const may = useMay()
const params = { path: { key: props.source, connection_type: props.detail.connection_type } }
const now = computed<Status>(() =>
  props.detail.status === 'scheduled' ? 'disabled' : (props.detail.status as Status),
)
const wanted = ref<Status>(now.value)
watch(now, (status) => (wanted.value = status))
const hour = ref('')
const changed = computed(() => wanted.value !== now.value)
const effects = useQuery({
  queryKey: computed(() => ['sources', props.source, 'policy-status', wanted.value]),
  enabled: changed,
  retry: false,
  staleTime: 0,
  queryFn: () =>
    answered(
      api.POST('/api/v1/sources/{key}/policy/{connection_type}/status/preview', {
        params,
        body: { status: wanted.value },
      }),
    ),
})
const { wrong, busy, attempt } = useAttempts()
const set = (status: Status, from: string | null = null) =>
  attempt(async () => {
    const body = { status, enabled_from: from }
    await answered(api.PUT('/api/v1/sources/{key}/policy/{connection_type}/status', { params, body }))
    hour.value = ''
    await queries.invalidateQueries()
  })
const inbound = props.detail.connection_type === 'inbound_scim'
const meaning: Record<Status, string> = {
  disabled: inbound
    ? 'Dravo stores what the source sends and changes nothing.'
    : 'Runs are previews and change nothing.',
  pilot: 'Only members of the pilot group are created or changed.',
  enabled: inbound ? 'Dravo applies each request at once.' : 'Dravo applies what each import run finds.',
}
const waits = computed(() => Object.entries(props.detail.waiting))
const reasons: Record<string, string> = {
  pending: 'being looked at',
  out_of_scope: 'outside the scope',
  not_a_member: 'not a member of the groups of the scope',
  not_in_pilot: 'not in the pilot group',
  disabled: 'sent while the source was disabled',
  unknown_user: 'no known user matches',
  refused: 'no user name by the attribute mapping',
  handed_over: 'handed over to another source',
  erased: 'users who were erased',
}
</script>

<template>
  <section class="panel" aria-labelledby="status-heading">
    <h2 id="status-heading">Status</h2>
    <ErrorMessage :wrong="wrong ?? (changed ? effects.error.value : null)" />
    <p>
      <StatusLabel :status="detail.status" />
      {{ meaning[now] }}
      <template v-if="detail.enabled_from"> Enabled from <TimeLabel :at="detail.enabled_from" />.</template>
    </p>
    <template v-if="inbound">
      <p>
        {{ detail.accepted.toLocaleString('en') }} records count for a user.
        <template v-if="detail.pending"
          >Dravo is applying the policy to {{ detail.pending.toLocaleString('en') }} records.</template
        >
      </p>
      <ul v-if="Object.keys(detail.left_out).length" aria-label="Records that do not count">
        <li v-for="[reason, number] in Object.entries(detail.left_out)" :key="reason">
          {{ number.toLocaleString('en') }} left out: {{ reasons[reason] ?? reason }}
        </li>
      </ul>
      <ul v-if="waits.length" aria-label="Waiting changes">
        <li v-for="[kind, number] in waits" :key="kind">
          {{ number.toLocaleString('en') }} {{ number === 1 ? `${kind} waits` : `${kind}s wait` }}
        </li>
      </ul>
    </template>
    <template v-if="may('sources.change')">
      <v-radio-group v-model="wanted" label="New status" hide-details inline>
        <v-radio value="disabled" label="Disabled" />
        <v-radio value="pilot" label="Pilot group" />
        <v-radio value="enabled" label="Enabled" />
      </v-radio-group>
      <div v-if="changed && effects.data.value" role="status">
        <p v-for="each in effects.data.value.effects" :key="each">{{ each }}</p>
      </div>
      <div class="row">
        <BusyButton
          color="primary"
          variant="outlined"
          :disabled="!changed || effects.isFetching.value || effects.isError.value"
          :busy="busy"
          @click="set(wanted)"
          >Change status</BusyButton
        >
        <template v-if="now === 'disabled'">
          <v-text-field v-model="hour" type="datetime-local" label="Enable from" class="hour" hide-details />
          <v-btn variant="outlined" :disabled="!hour" @click="set('disabled', new Date(hour).toISOString())"
            >Schedule</v-btn
          >
          <v-btn v-if="detail.enabled_from" variant="text" @click="set('disabled')">Remove schedule</v-btn>
        </template>
      </div>
    </template>
  </section>
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
ul {
  margin: 0 0 12px;
  padding-left: 20px;
}
</style>
