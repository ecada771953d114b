<script setup lang="ts">
import { answered, api } from '../../api/client'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

type State = 'open' | 'waiting' | 'failed' | 'held' | 'done' | 'discarded'
const props = defineProps<{ about: { q?: string; application?: string; status?: State }; within?: boolean }>()
const fetch = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/provisioning/tasks', { params: { query: { after, count, ...props.about } } }))
const columns = [
  'User',
  ...(props.within ? [] : ['Application']),
  'Desired state',
  'Status',
  'Attempts',
  'Since',
  'Message',
]
</script>

<template>
  <PagedTable
    name="tasks"
    caption="Provisioning tasks"
    :columns="columns"
    :fetch="fetch"
    :about="about"
    :refresh="2500"
  >
    <template #row="{ item }">
      <td>
        <router-link :to="`/provisioning/tasks/${item.id}`">{{ item.user.display_name }}</router-link>
      </td>
      <td v-if="!within">
        <router-link :to="`/applications/${item.application.key}`">{{ item.application.label }}</router-link>
      </td>
      <td>{{ item.desired_state }}</td>
      <td>
        <StatusLabel :status="item.status" />
        <div v-if="item.waits_for" class="quiet">{{ item.waits_for }}</div>
      </td>
      <td>{{ item.attempts }}</td>
      <td><TimeLabel :at="item.closed_at ?? item.created_at" /></td>
      <td class="said">{{ item.message }}</td>
    </template>
    <template #empty>
      <EmptyState title="No tasks">A task appears here when an account needs to change.</EmptyState>
    </template>
  </PagedTable>
</template>

<style scoped>
.said {
  max-width: 420px;
}
</style>
