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
// An application owner looks at their own applications; the rest of the house is not theirs.
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
  queryKey: ['deliveries', 'overview'],
  enabled: whole,
  queryFn: () => answered(api.GET('/api/v1/provisioning/tasks', { params: { query: { state: 'failed', count: 8 } } })),
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
    applications.data.value?.items.filter((each) => each.state === 'paused' || each.state === 'not answering') ?? [],
)
const unread = computed(
  () =>
    sources.data.value?.items.filter(
      (each) => each.conflicts || each.sign_in_needs || each.run_state === 'failed' || each.run_state === 'held',
    ) ?? [],
)
const reviews = useQuery({
  queryKey: ['reviews', 'overview'],
  queryFn: () => answered(api.GET('/api/v1/reviews', { params: { query: { count: 20 } } })),
  refetchInterval,
})
const undecided = computed(() => reviews.data.value?.items.filter((each) => !each.closed_at && each.open) ?? [])
const short = computed(
  () => applications.data.value?.items.filter((each) => each.waiting_for_seats || each.short_plans) ?? [],
)
const amiss = computed(() => applications.data.value?.items.filter((each) => each.rows_amiss) ?? [])
const drifting = computed(() => applications.data.value?.items.filter((each) => each.drifting) ?? [])
const TAKE_ANOTHER = 'Take another, give it to the side that needs it, and let both run until the change is done.'
const ending = computed(() => [
  ...(applications.data.value?.items ?? [])
    .filter((each) => each.secret_ends_at)
    .map((each) => ({
      to: `/applications/${each.key}/settings`,
      label: each.label,
      what: 'the secret of its connection',
      at: each.secret_ends_at,
      hint: TAKE_ANOTHER,
    })),
  ...(sources.data.value?.items ?? [])
    .filter((each) => each.token_ends_at)
    .map((each) => ({
      to: `/sources/${each.key}`,
      label: each.label,
      what: 'a token that it uses',
      at: each.token_ends_at,
      hint: TAKE_ANOTHER,
    })),
  ...(sources.data.value?.items ?? [])
    .filter((each) => each.certificate_ends_at)
    .map((each) => ({
      to: `/sources/${each.key}/sign-in`,
      label: each.label,
      what: "its provider's certificate",
      at: each.certificate_ends_at,
      hint: 'Ask whoever runs the provider for the next one; it is known here as soon as it stands in its metadata.',
    })),
])
const held = useQuery({
  queryKey: ['guard'],
  enabled: whole,
  queryFn: () => answered(api.GET('/api/v1/holds')),
  refetchInterval,
})
const quiet = computed(
  () =>
    !failed.data.value?.total &&
    !unread.value.length &&
    !short.value.length &&
    !amiss.value.length &&
    !undecided.value.length &&
    !troubled.value.length &&
    !drifting.value.length &&
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
          {{ overview.data.value.active_people.toLocaleString('en') }} active people in
          {{ overview.data.value.groups.toLocaleString('en') }} groups
          <template v-if="overview.data.value.being_worked_out">
            · {{ overview.data.value.being_worked_out.toLocaleString('en') }} being worked out anew
          </template>
        </p>
      </div>
    </div>
    <ErrorMessage :wrong="overview.error.value" />
    <section class="panel" aria-labelledby="needs">
      <h2 id="needs">What needs a person now</h2>
      <HoldNotice />
      <p v-if="quiet" class="row">
        <StatusLabel state="ok" /> Nothing: every application answers, and no delivery has failed, nothing is held,
        nothing has drifted.
      </p>
      <ul v-else class="needs">
        <li v-for="each in troubled" :key="each.key">
          <StatusLabel :state="each.state" />
          <div>
            <router-link :to="`/applications/${each.key}/settings`">{{ each.label }}</router-link>
            : {{ each.trouble }} <span class="quiet">{{ each.hint }}</span>
          </div>
        </li>
        <li v-for="each in unread" :key="`source ${each.key}`">
          <StatusLabel
            :state="
              each.run_state === 'failed' || each.run_state === 'held'
                ? each.run_state
                : each.sign_in_needs
                  ? 'look at this'
                  : 'open'
            "
          />
          <div>
            <router-link :to="`/sources/${each.key}`">{{ each.label }}</router-link>:
            <template v-if="each.run_state === 'failed'">it could not be read. </template>
            <template v-else-if="each.run_state === 'held'"
              >too many did not come, and nobody was taken away.
            </template>
            <template v-if="each.sign_in_needs">{{ each.sign_in_needs }} </template>
            <router-link v-if="each.conflicts" :to="`/sources/${each.key}/conflicts`"
              >{{ each.conflicts.toLocaleString('en') }}
              {{ each.conflicts === 1 ? 'conflict waits' : 'conflicts wait' }} for a decision</router-link
            >
          </div>
        </li>
        <li v-for="each in undecided" :key="each.id">
          <StatusLabel state="open" />
          <div>
            <router-link :to="`/reviews/${each.id}`">{{ each.label }}</router-link>:
            {{ each.open.toLocaleString('en') }} of {{ each.rows.toLocaleString('en') }} still to be decided until
            {{ each.until_day }}.
          </div>
        </li>
        <li v-for="each in short" :key="`seats ${each.key}`">
          <StatusLabel :state="each.waiting_for_seats ? 'full' : 'running short'" />
          <div>
            <router-link :to="`/applications/${each.key}/seats${each.waiting_for_seats ? '?who=waiting' : ''}`">{{
              each.label
            }}</router-link>:
            <template v-if="each.waiting_for_seats"
              >{{ each.waiting_for_seats.toLocaleString('en') }}
              {{ each.waiting_for_seats === 1 ? 'person waits' : 'people wait' }} for a seat.</template
            >
            <template v-else>few seats are left.</template>
          </div>
        </li>
        <li v-for="each in amiss" :key="`amiss ${each.key}`">
          <StatusLabel state="to repair" />
          <div>
            <router-link :to="`/applications/${each.key}/mapping`">{{ each.label }}</router-link>:
            {{ each.rows_amiss.toLocaleString('en') }}
            {{ each.rows_amiss === 1 ? 'row of its mapping reaches' : 'rows of its mapping reach' }} nobody.
          </div>
        </li>
        <li v-for="each in ending" :key="`ending ${each.to}`">
          <StatusLabel :state="isPast(each.at) ? 'expired' : 'ends soon'" />
          <div>
            <router-link :to="each.to">{{ each.label }}</router-link>: {{ each.what }}
            {{ isPast(each.at) ? 'ended' : 'ends' }} <TimeLabel :at="each.at" />.
            <span class="quiet">{{ each.hint }}</span>
          </div>
        </li>
        <li v-for="each in drifting" :key="`drift ${each.key}`">
          <StatusLabel state="drifting" />
          <div>
            <router-link :to="`/applications/${each.key}/drift`">{{ each.label }}</router-link>:
            {{ each.drifting.toLocaleString('en') }} {{ each.drifting === 1 ? 'difference' : 'differences' }} that
            somebody made there by other hands.
          </div>
        </li>
        <li v-for="each in failed.data.value?.items" :key="each.id">
          <StatusLabel :state="each.state" />
          <div>
            <router-link :to="`/provisioning/tasks/${each.id}`"
              >{{ each.person.display_name }} in {{ each.application.label }}</router-link
            >: {{ each.message }} <span class="quiet">{{ each.hint }}</span>
          </div>
        </li>
      </ul>
      <router-link v-if="(failed.data.value?.total ?? 0) > 8" to="/provisioning/tasks?state=failed">
        All {{ failed.data.value?.total }} failed deliveries
      </router-link>
    </section>
    <AccessFlow v-if="whole && may('access.read')" />
    <div class="two">
      <section v-if="whole" class="panel" aria-labelledby="from">
        <h2 id="from">Where people come from</h2>
        <table v-if="sources.data.value?.items.length" class="plain">
          <thead>
            <tr>
              <th scope="col">Source</th>
              <th scope="col" class="number">People</th>
              <th scope="col" class="number">Groups</th>
              <th scope="col">Last activity</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="each in sources.data.value.items" :key="each.key">
              <td>
                <router-link :to="`/sources/${each.key}`">{{ each.label }}</router-link>
              </td>
              <td class="number">{{ each.people.toLocaleString('en') }}</td>
              <td class="number">{{ each.groups.toLocaleString('en') }}</td>
              <td><TimeLabel :at="each.last_activity_at" /></td>
            </tr>
          </tbody>
        </table>
        <EmptyState v-else title="No source yet">
          A source is a place that knows people, such as an identity provider.
          <template #act><v-btn to="/sources" color="primary">Add the first source</v-btn></template>
        </EmptyState>
      </section>
      <section class="panel" aria-labelledby="to">
        <h2 id="to">What they use</h2>
        <table v-if="applications.data.value?.items.length" class="plain">
          <thead>
            <tr>
              <th scope="col">Application</th>
              <th scope="col">State</th>
              <th scope="col" class="number">People</th>
              <th scope="col" class="number">Waiting</th>
              <th scope="col" class="number">Failed</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="each in applications.data.value.items" :key="each.key">
              <td>
                <router-link :to="`/applications/${each.key}`">{{ each.label }}</router-link>
              </td>
              <td><StatusLabel :state="each.state" /></td>
              <td class="number">
                <router-link :to="`/applications/${each.key}/users`">{{
                  each.people.toLocaleString('en')
                }}</router-link>
              </td>
              <td class="number">{{ each.waiting }}</td>
              <td class="number">
                <router-link v-if="each.failed" :to="`/provisioning/tasks?state=failed&application=${each.key}`">{{
                  each.failed
                }}</router-link>
                <template v-else>0</template>
              </td>
            </tr>
          </tbody>
        </table>
        <EmptyState v-else title="No application yet">
          An application is what people use. Its roles, its connection and who gets which role are kept with it.
          <template #act><v-btn to="/applications" color="primary">Add the first application</v-btn></template>
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
