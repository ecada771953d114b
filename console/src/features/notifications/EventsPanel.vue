<script setup lang="ts">
// Events: conditions that need an operator or needed one, and what happened once.
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAddressFilter } from '../../app/addressFilters'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const status = useAddressFilter('status')
const kind = useAddressFilter('kind')
const kinds = useQuery({
  queryKey: ['event kinds'],
  queryFn: () => answered(api.GET('/api/v1/notifications/kinds')),
})
const choices = computed(
  () => kinds.data.value?.items.map((each) => ({ title: each.label, value: each.key })) ?? [],
)
const about = computed(() => ({
  status: status.value as Schemas['Event']['status'] | undefined,
  kind: kind.value,
}))
const events = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/notifications', { params: { query: { after, count, ...about.value } } }))
</script>

<template>
  <section class="panel" aria-labelledby="events">
    <h2 id="events">Events</h2>
    <p class="quiet">Open events need an operator. Dravo reports each event by the notification rules.</p>
    <div class="row filters">
      <v-select
        v-model="status"
        :items="['open', 'solved', 'happened']"
        label="Event status"
        clearable
        class="narrow"
      />
      <v-autocomplete v-model="kind" :items="choices" label="Kind of event" clearable class="narrow" />
    </div>
    <PagedTable
      name="events"
      caption="Events"
      :columns="['Event', 'Status', 'Since', 'Solved', 'Messages']"
      :fetch="events"
      :about="about"
      :count="20"
      :refresh="5000"
    >
      <template #row="{ item }">
        <td>
          <RouterLink :to="item.path">{{ item.title }}</RouterLink>
          <div class="quiet">{{ item.label }}</div>
        </td>
        <td><StatusLabel :status="item.status" /></td>
        <td><TimeLabel :at="item.began_at" /></td>
        <td><TimeLabel v-if="item.status === 'solved'" :at="item.ended_at" /></td>
        <td>{{ item.messages }}</td>
      </template>
      <template #empty><EmptyState title="No events">Nothing fits these filters.</EmptyState></template>
    </PagedTable>
  </section>
</template>
