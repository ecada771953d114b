<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { answered, api } from '../../api/client'
import { isPast } from '../../app/times'
import { useMay, useSession } from '../../app/session'
import AccessFlow from './AccessFlow.vue'
import HoldNotice from '../provisioning/HoldNotice.vue'
import EmptyState from '../../components/EmptyState.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const refetchInterval = 4000
const { session } = useSession()
const may = useMay()
// Application owners see their own applications only.
const whole = computed(() => session.value?.applications === null)
const overview = useQuery({
  queryKey: ['overview'],
  queryFn: () => answered(api.GET('/api/v1/overview')),
  refetchInterval,
})
const applications = useQuery({
  queryKey: ['applications', 'overview'],
  queryFn: () => answered(api.GET('/api/v1/applications', { params: { query: { count: 100 } } })),
  refetchInterval,
})
const failed = useQuery({
  queryKey: ['tasks', 'overview'],
  enabled: whole,
  queryFn: () =>
    answered(api.GET('/api/v1/provisioning/tasks', { params: { query: { status: 'failed', count: 8 } } })),
  refetchInterval,
})
const sources = useQuery({
  queryKey: ['sources', 'overview'],
  enabled: whole,
  queryFn: () => answered(api.GET('/api/v1/sources', { params: { query: { count: 100 } } })),
  refetchInterval,
})
const troubled = computed(
  () =>
    applications.data.value?.items.filter(
      (each) => each.status === 'paused' || each.status === 'not_answering',
    ) ?? [],
)
const unread = computed(
  () =>
    sources.data.value?.items.filter(
      (each) =>
        each.conflicts ||
        each.waiting_deactivations ||
        each.sign_in_needs ||
        each.run_status === 'failed' ||
        each.run_status === 'held',
    ) ?? [],
)
const reviews = useQuery({
  queryKey: ['reviews', 'overview'],
  queryFn: () => answered(api.GET('/api/v1/reviews', { params: { query: { count: 20 } } })),
  refetchInterval,
})
const undecided = computed(
  () => reviews.data.value?.items.filter((each) => !each.closed_at && each.open) ?? [],
)
const short = computed(
  () => applications.data.value?.items.filter((each) => each.waiting_for_seats || each.short_plans) ?? [],
)
const warning = computed(() => applications.data.value?.items.filter((each) => each.mapping_warnings) ?? [])
const drifting = computed(() => applications.data.value?.items.filter((each) => each.drifting) ?? [])
const manual = computed(() => applications.data.value?.items.filter((each) => each.manual) ?? [])
const TAKE_ANOTHER = 'Create a new one, enter it on the other side, then revoke the old one.'
const ending = computed(() => [
  ...(applications.data.value?.items ?? [])
    .filter((each) => each.secret_ends_at)
    .map((each) => ({
      to: `/applications/${each.key}/settings`,
      label: each.label,
      what: 'connection secret',
      at: each.secret_ends_at,
      hint: TAKE_ANOTHER,
    })),
  ...(sources.data.value?.items ?? [])
    .filter((each) => each.token_ends_at)
    .map((each) => ({
      to: `/sources/${each.key}`,
      label: each.label,
      what: 'SCIM token',
      at: each.token_ends_at,
      hint: TAKE_ANOTHER,
    })),
  ...(sources.data.value?.items ?? [])
    .filter((each) => each.certificate_ends_at)
    .map((each) => ({
      to: `/sources/${each.key}/sign-in`,
      label: each.label,
      what: 'certificate of the provider',
      at: each.certificate_ends_at,
      hint: 'Ask the administrator of the provider to publish the next certificate. Dravo picks it up from the metadata.',
    })),
])
const held = useQuery({
  queryKey: ['removal_limit'],
  enabled: whole,
  queryFn: () => answered(api.GET('/api/v1/holds')),
  refetchInterval,
})
const quiet = computed(
  () =>
    !failed.data.value?.total &&
    !unread.value.length &&
    !short.value.length &&
    !warning.value.length &&
    !undecided.value.length &&
    !troubled.value.length &&
    !drifting.value.length &&
    !manual.value.length &&
    !ending.value.length &&
    !held.data.value?.items.length,
)
</script>

<template>
  <div class="page">
    <div class="head">
      <div class="grow">
        <h1>Overview</h1>
        <p v-if="overview.data.value" class="lead">
          {{ overview.data.value.active_users.toLocaleString('en') }} active users in
          {{ overview.data.value.groups.toLocaleString('en') }} groups
          <template v-if="overview.data.value.being_recomputed">
            · {{ overview.data.value.being_recomputed.toLocaleString('en') }} being recalculated
          </template>
        </p>
      </div>
    </div>
    <ErrorMessage :wrong="overview.error.value" />
    <section class="panel" aria-labelledby="needs">
      <h2 id="needs">Needs attention</h2>
      <HoldNotice />
      <p v-if="quiet" class="row">
        <StatusLabel status="ok" /> Nothing. All applications respond; there are no failed tasks, holds or
        drift.
      </p>
      <ul v-else class="needs">
        <li v-for="each in troubled" :key="each.key">
          <StatusLabel :status="each.status" />
          <div>
            <router-link :to="`/applications/${each.key}/settings`">{{ each.label }}</router-link>
            : {{ each.trouble }} <span class="quiet">{{ each.hint }}</span>
          </div>
        </li>
        <li v-for="each in unread" :key="`source ${each.key}`">
          <StatusLabel
            :status="
              each.run_status === 'failed' || each.run_status === 'held'
                ? each.run_status
                : each.sign_in_needs
                  ? 'warning'
                  : 'open'
            "
          />
          <div>
            <router-link :to="`/sources/${each.key}`">{{ each.label }}</router-link>:
            <template v-if="each.run_status === 'failed'">the import failed. </template>
            <template v-else-if="each.run_status === 'held'"
              >run held: too many users are missing. Nobody was removed.
            </template>
            <template v-if="each.sign_in_needs">{{ each.sign_in_needs }} </template>
            <router-link v-if="each.waiting_deactivations" :to="`/sources/${each.key}/scim-policy`"
              >{{ each.waiting_deactivations.toLocaleString('en') }}
              {{ each.waiting_deactivations === 1 ? 'deactivation waits' : 'deactivations wait' }} until you
              enable the source.
            </router-link>
            <router-link v-if="each.conflicts" :to="`/sources/${each.key}/conflicts`"
              >{{ each.conflicts.toLocaleString('en') }}
              {{ each.conflicts === 1 ? 'conflict needs' : 'conflicts need' }} a decision</router-link
            >
          </div>
        </li>
        <li v-for="each in undecided" :key="each.id">
          <StatusLabel status="open" />
          <div>
            <router-link :to="`/reviews/${each.id}`">{{ each.label }}</router-link>:
            {{ each.open.toLocaleString('en') }} of {{ each.rows.toLocaleString('en') }} access rows open, due
            {{ each.until_day }}.
          </div>
        </li>
        <li v-for="each in short" :key="`seats ${each.key}`">
          <StatusLabel :status="each.waiting_for_seats ? 'full' : 'short'" />
          <div>
            <router-link
              :to="`/applications/${each.key}/seats${each.waiting_for_seats ? '?who=waiting' : ''}`"
              >{{ each.label }}</router-link>:
            <template v-if="each.waiting_for_seats"
              >{{ each.waiting_for_seats.toLocaleString('en') }}
              {{ each.waiting_for_seats === 1 ? 'user waits' : 'users wait' }} for a seat.</template
            >
            <template v-else>few seats are left.</template>
          </div>
        </li>
        <li v-for="each in manual" :key="`manual ${each.key}`">
          <StatusLabel status="manual" />
          <div>
            <router-link :to="`/applications/${each.key}/manual`">{{ each.label }}</router-link>:
            {{ each.manual.toLocaleString('en') }}
            {{ each.manual === 1 ? 'account waits' : 'accounts wait' }} for a change by hand.
          </div>
        </li>
        <li v-for="each in warning" :key="`warning ${each.key}`">
          <StatusLabel status="warning" />
          <div>
            <router-link :to="`/applications/${each.key}/mapping`">{{ each.label }}</router-link>:
            {{ each.mapping_warnings.toLocaleString('en') }}
            {{ each.mapping_warnings === 1 ? 'assignment matches' : 'assignments match' }} no users.
          </div>
        </li>
        <li v-for="each in ending" :key="`ending ${each.to}`">
          <StatusLabel :status="isPast(each.at) ? 'expired' : 'expires_soon'" />
          <div>
            <router-link :to="each.to">{{ each.label }}</router-link>: {{ each.what }}
            {{ isPast(each.at) ? 'expired' : 'expires' }} <TimeLabel :at="each.at" />.
            <span class="quiet">{{ each.hint }}</span>
          </div>
        </li>
        <li v-for="each in drifting" :key="`drift ${each.key}`">
          <StatusLabel status="drifting" />
          <div>
            <router-link :to="`/applications/${each.key}/drift`">{{ each.label }}</router-link>:
            {{ each.drifting.toLocaleString('en') }}
            {{ each.drifting === 1 ? 'difference' : 'differences' }} from the desired state (changed outside
            Dravo).
          </div>
        </li>
        <li v-for="each in failed.data.value?.items" :key="each.id">
          <StatusLabel :status="each.status" />
          <div>
            <router-link :to="`/provisioning/tasks/${each.id}`"
              >{{ each.user.display_name }} in {{ each.application.label }}</router-link
            >: {{ each.message }} <span class="quiet">{{ each.hint }}</span>
          </div>
        </li>
      </ul>
      <router-link v-if="(failed.data.value?.total ?? 0) > 8" to="/provisioning/tasks?status=failed">
        All {{ failed.data.value?.total }} failed tasks
      </router-link>
    </section>
    <AccessFlow v-if="whole && may('access.read')" />
    <div class="two">
      <section v-if="whole" class="panel" aria-labelledby="from">
        <h2 id="from">Users by source</h2>
        <table v-if="sources.data.value?.items.length" class="plain">
          <thead>
            <tr>
              <th scope="col">Source</th>
              <th scope="col" class="number">Users</th>
              <th scope="col" class="number">Groups</th>
              <th scope="col">Last activity</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="each in sources.data.value.items" :key="each.key">
              <td>
                <router-link :to="`/sources/${each.key}`">{{ each.label }}</router-link>
              </td>
              <td class="number">{{ each.users.toLocaleString('en') }}</td>
              <td class="number">{{ each.groups.toLocaleString('en') }}</td>
              <td><TimeLabel :at="each.last_activity_at" /></td>
            </tr>
          </tbody>
        </table>
        <EmptyState v-else title="No sources yet">
          A source is an identity provider, directory or file that reports users and groups.
          <template #act><v-btn to="/sources" color="primary">Add source</v-btn></template>
        </EmptyState>
      </section>
      <section class="panel" aria-labelledby="to">
        <h2 id="to">Users by application</h2>
        <table v-if="applications.data.value?.items.length" class="plain">
          <thead>
            <tr>
              <th scope="col">Application</th>
              <th scope="col">Status</th>
              <th scope="col" class="number">Users</th>
              <th scope="col" class="number">Waiting</th>
              <th scope="col" class="number">Failed</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="each in applications.data.value.items" :key="each.key">
              <td>
                <router-link :to="`/applications/${each.key}`">{{ each.label }}</router-link>
              </td>
              <td><StatusLabel :status="each.status" /></td>
              <td class="number">
                <router-link :to="`/applications/${each.key}/users`">{{
                  each.users.toLocaleString('en')
                }}</router-link>
              </td>
              <td class="number">{{ each.waiting }}</td>
              <td class="number">
                <router-link
                  v-if="each.failed"
                  :to="`/provisioning/tasks?status=failed&application=${each.key}`"
                  >{{ each.failed }}</router-link
                >
                <template v-else>0</template>
              </td>
            </tr>
          </tbody>
        </table>
        <EmptyState v-else title="No applications yet">
          Add an application, then its roles, its connection and its role mapping.
          <template #act><v-btn to="/applications" color="primary">Add application</v-btn></template>
        </EmptyState>
      </section>
    </div>
  </div>
</template>

<style scoped>
.needs {
  list-style: none;
  margin: 0;
  padding: 0;
}
.needs li {
  display: grid;
  grid-template-columns: 130px 1fr;
  align-items: start;
  gap: 4px 12px;
  padding: 6px 0;
}
@media (max-width: 640px) {
  .needs li {
    grid-template-columns: 1fr;
  }
}
</style>
