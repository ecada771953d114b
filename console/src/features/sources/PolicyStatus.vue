<script setup lang="ts">
// The status of a connection type: disabled, pilot group, enabled, or enabled from a date and time.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useMay } from '../../app/session'
import ErrorMessage from '../../components/ErrorMessage.vue'
import StatusChoice, { type Status } from '../../components/StatusChoice.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ source: string; detail: Schemas['SourcePolicyDetail'] }>()
const queries = useQueryClient()
const may = useMay()
const params = { path: { key: props.source, connection_type: props.detail.connection_type } }
const now = computed<Status>(() =>
  props.detail.status === 'scheduled' ? 'disabled' : (props.detail.status as Status),
)
const wanted = ref<Status>(now.value)
watch(now, (status) => (wanted.value = status))
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
const set = (status: Status, from: string | null) =>
  attempt(async () => {
    const body = { status, enabled_from: from }
    await answered(api.PUT('/api/v1/sources/{key}/policy/{connection_type}/status', { params, body }))
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
      <StatusChoice
        v-model="wanted"
        :now="now"
        :enabled-from="detail.enabled_from"
        :effects="changed ? effects.data.value?.effects : undefined"
        :ready="changed && !effects.isFetching.value && !effects.isError.value"
        :busy="busy"
        @set="set"
      />
    </template>
  </section>
</template>

<style scoped>
ul {
  margin: 0 0 12px;
  padding-left: 20px;
}
</style>
