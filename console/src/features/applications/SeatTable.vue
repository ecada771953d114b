<script setup lang="ts">
// Users with a seat, or on the waiting list with their position.
import { computed } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAddressFilter } from '../../app/addressFilters'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import SeatCount from './SeatCount.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
const plan = useAddressFilter('plan')
const who = useAddressFilter('who')
const waiting = computed(() => who.value === 'waiting')
const choices = computed(() =>
  props.application.plans.map((each) => ({ title: each.label, value: each.key })),
)
const about = computed(() => ({ plan: plan.value, waiting: waiting.value }))
const path = { key: props.application.key }
const fetch = (after: string | undefined, count: number) =>
  answered(
    api.GET('/api/v1/applications/{key}/seats', {
      params: { path, query: { after, count, ...about.value } },
    }),
  )
</script>

<template>
  <ul class="plans">
    <li v-for="each in application.plans" :key="each.key">
      <b>{{ each.label }}</b>: <SeatCount :plan="each" :application="application.key" />
    </li>
  </ul>
  <div class="row filters">
    <v-select v-model="plan" :items="choices" label="License plan" clearable class="narrow" />
    <v-checkbox v-model="who" label="those who wait" true-value="waiting" :false-value="undefined" />
  </div>
  <PagedTable
    name="seats"
    caption="Seats"
    :columns="waiting ? ['Position', 'User', 'License plan', 'Since'] : ['User', 'License plan', 'Since']"
    :fetch="fetch"
    :about="about"
    :refresh="5000"
  >
    <template #row="{ item }">
      <td v-if="waiting">{{ item.place }}</td>
      <td>
        <router-link :to="`/users/${item.user.id}`">{{ item.user.display_name }}</router-link>
      </td>
      <td>{{ item.plan.label }}</td>
      <td><TimeLabel :at="waiting ? item.requested_at : item.since" /></td>
    </template>
    <template #empty>
      <EmptyState :title="waiting ? 'No waiting users' : 'No seats taken'">
        {{
          application.plans.length
            ? 'Users get a seat through an assignment with a license plan.'
            : 'Create a license plan first, under Settings.'
        }}
      </EmptyState>
    </template>
  </PagedTable>
</template>

<style scoped>
.plans {
  list-style: none;
  padding: 0;
  margin: 0 0 12px;
}
.plans li {
  padding: 3px 0;
}
</style>
