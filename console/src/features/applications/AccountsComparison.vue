<script setup lang="ts">
// The whole list of the application's accounts beside the desired ones, as of the last reconciliation.
import { mdiMagnify } from '@mdi/js'
import { computed, ref } from 'vue'
import { answered, api } from '../../api/client'
import { useWords } from '../../app/addressFilters'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import StatusLabel from '../../components/StatusLabel.vue'

const props = defineProps<{ application: string }>()
const { typed, words } = useWords()
const statuses = ['same', 'different', 'missing', 'pending', 'unexpected', 'ignored'] as const
const status = ref<(typeof statuses)[number] | null>(null)
const about = computed(() => ({ status: status.value ?? undefined, q: words.value }))
const fetch = (after: string | undefined, count: number) =>
  answered(
    api.GET('/api/v1/applications/{key}/account-comparison', {
      params: { path: { key: props.application }, query: { after, count, ...about.value } },
    }),
  )
const meaning: Record<string, string> = { unexpected: 'no user' }
</script>

<template>
  <div class="row filters">
    <v-text-field
      v-model="typed"
      :prepend-inner-icon="mdiMagnify"
      label="Account or ID"
      clearable
      class="words"
    />
    <v-select v-model="status" :items="[...statuses]" label="Status" clearable class="narrow" />
  </div>
  <PagedTable
    :name="`comparison-${application}`"
    caption="Accounts on both sides"
    :columns="[
      'Account',
      'Status',
      'Desired',
      'In the application',
      'Different in the application',
      'Account ID',
    ]"
    :fetch="fetch"
    :about="about"
    :refresh="5000"
  >
    <template #row="{ item }">
      <td>
        <router-link v-if="item.user" :to="`/users/${item.user.id}`">{{ item.name }}</router-link>
        <span v-else class="mono">{{ item.name }}</span>
      </td>
      <td><StatusLabel :status="meaning[item.status] ?? item.status" /></td>
      <td>{{ item.desired || 'no account' }}</td>
      <td>{{ item.listed || 'no account' }}</td>
      <td>
        <div v-for="each in item.differences" :key="each">{{ each }}</div>
      </td>
      <td class="mono">{{ item.remote_id }}</td>
    </template>
    <template #empty>
      <EmptyState title="No accounts">A reconciliation reads the accounts of the application.</EmptyState>
    </template>
  </PagedTable>
</template>

<style scoped>
.narrow {
  flex: 0 1 180px;
}
</style>
