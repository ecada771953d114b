<script setup lang="ts">
import { mdiMagnify } from '@mdi/js'
import { computed } from 'vue'
import { answered, api } from '../api/client'
import { useAddressFilter, useWords } from '../app/addressFilters'
import EmptyState from './EmptyState.vue'
import PagedTable from './PagedTable.vue'
import StatusLabel from './StatusLabel.vue'
import TimeLabel from './TimeLabel.vue'

const props = defineProps<{ application: string }>()
const { typed, words } = useWords()
const status = useAddressFilter('status')
const about = computed(() => ({
  application: props.application,
  q: words.value,
  status: status.value as 'pending' | undefined,
}))
const fetch = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/accounts', { params: { query: { after, count, ...about.value } } }))
const origins: Record<string, string> = { made: 'created by Dravo', adopted: 'adopted' }
</script>

<template>
  <div class="row filters">
    <v-text-field
      v-model="typed"
      :prepend-inner-icon="mdiMagnify"
      label="User or account ID"
      clearable
      class="words"
    />
    <v-select
      v-model="status"
      label="Status"
      clearable
      class="narrow"
      :items="['in_sync', 'pending', 'waiting', 'manual', 'failed', 'held', 'unmanaged']"
    />
  </div>
  <PagedTable
    name="accounts"
    caption="Accounts"
    :columns="['User', 'Desired state', 'Roles', 'Status', 'In sync since', 'Account ID', 'Origin']"
    :fetch="fetch"
    :about="about"
    :refresh="3000"
  >
    <template #row="{ item }">
      <td>
        <router-link :to="`/users/${item.user.id}`">{{ item.user.display_name }}</router-link>
      </td>
      <td>{{ item.should_be }}</td>
      <td>{{ item.roles.join(', ') || 'none' }}</td>
      <td>
        <router-link v-if="item.task" :to="`/provisioning/tasks/${item.task.id}`"
          ><StatusLabel :status="item.status"
        /></router-link>
        <StatusLabel v-else :status="item.status" />
      </td>
      <td><TimeLabel :at="item.applied_at" /></td>
      <td class="mono">{{ item.remote_id }}</td>
      <td>{{ item.origin ? origins[item.origin] : '' }}</td>
    </template>
    <template #empty>
      <EmptyState title="No accounts">Dravo creates an account as soon as a user gets a role.</EmptyState>
    </template>
  </PagedTable>
</template>
