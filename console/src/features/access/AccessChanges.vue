<script setup lang="ts">
// Users whose roles differ between the ends of two days, with the reasons.
import { computed } from 'vue'
import { answered, api } from '../../api/client'
import { useApplicationChoices } from '../../app/choices'
import { useAddressFilter } from '../../app/addressFilters'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const day = (back: number) => new Date(Date.now() - back * 86_400_000).toISOString().slice(0, 10)
const since = useAddressFilter('since')
const until = useAddressFilter('until')
const application = useAddressFilter('application')
const choices = useApplicationChoices()
const view = computed(() => ({
  since: since.value ?? day(1),
  until: until.value ?? day(0),
  application: application.value,
}))
const fetch = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/access/changes', { params: { query: { after, count, ...view.value } } }))
</script>

<template>
  <div class="row filters">
    <v-text-field
      :model-value="view.since"
      type="date"
      label="From (end of day)"
      class="narrow"
      @update:model-value="(text: string) => (since = text)"
    />
    <v-text-field
      :model-value="view.until"
      type="date"
      label="to the end of"
      class="narrow"
      @update:model-value="(text: string) => (until = text)"
    />
    <v-select v-model="application" :items="choices" label="Application" clearable class="narrow" />
  </div>
  <PagedTable
    name="moves"
    caption="Users with different roles"
    :columns="['User', 'Application', 'Change', 'Before', 'After', 'Time', 'Reason']"
    :fetch="fetch"
    :about="view"
    :count="25"
  >
    <template #row="{ item }">
      <td>
        <router-link :to="`/users/${item.user.id}`">{{ item.user.display_name }}</router-link>
      </td>
      <td>
        <router-link :to="`/applications/${item.application.key}`">{{ item.application.label }}</router-link>
      </td>
      <td><StatusLabel :status="item.what" /></td>
      <td>{{ item.before.join(', ') || 'none' }}</td>
      <td>{{ item.after.join(', ') || 'none' }}</td>
      <td><TimeLabel :at="item.at" /></td>
      <td>
        <div v-for="reason in item.reasons" :key="reason">{{ reason }}</div>
      </td>
    </template>
    <template #empty>
      <EmptyState title="No changes">All users have the same roles at the end of both days.</EmptyState>
    </template>
  </PagedTable>
</template>
