<script setup lang="ts">
import { answered, api } from '../../api/client'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

type State = 'open' | 'waiting' | 'failed' | 'held' | 'done' | 'dropped'
const props = defineProps<{ about: { q?: string; application?: string; state?: State }; within?: boolean }>()
const fetch = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/provisioning/tasks', { params: { query: { after, count, ...props.about } } }))
const columns = [
  'Person',
  ...(props.within ? [] : ['Application']),
  'To become',
  'State',
  'Tries',
  'Since',
  'What was said',
]
</script>

<template>
  <PagedTable
    name="deliveries"
    caption="Provisioning tasks"
    :columns="columns"
    :fetch="fetch"
    :about="about"
    :refresh="2500"
  >
    <template #row="{ item }">
      <td>
        <router-link :to="`/provisioning/tasks/${item.id}`">{{ item.person.display_name }}</router-link>
      </td>
      <td v-if="!within">
        <router-link :to="`/applications/${item.application.key}`">{{ item.application.label }}</router-link>
      </td>
      <td>{{ item.aim }}</td>
      <td>
        <StatusLabel :state="item.state" />
        <div v-if="item.waits_for" class="quiet">{{ item.waits_for }}</div>
      </td>
      <td>{{ item.attempts }}</td>
      <td><TimeLabel :at="item.closed_at ?? item.created_at" /></td>
      <td class="said">{{ item.message }}</td>
    </template>
    <template #empty>
      <EmptyState title="No delivery"
        >When an account is due to change, the work of changing it stands here.</EmptyState
      >
    </template>
  </PagedTable>
</template>

<style scoped>
.said {
  max-width: 420px;
}
</style>
