<script setup lang="ts">
import { answered, api } from '../api/client'
import EmptyState from '../components/EmptyState.vue'
import PagedTable from '../components/PagedTable.vue'
import TimeOf from '../components/TimeOf.vue'

const fetch = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/audit', { params: { query: { after, count } } }))

function words(details: Record<string, unknown>): string {
  return Object.entries(details)
    .map(([name, value]) => `${name}: ${typeof value === 'object' ? JSON.stringify(value) : String(value)}`)
    .join(' · ')
}
</script>

<template>
  <div class="page">
    <div class="head">
      <div class="grow">
        <h1>Activity</h1>
        <p class="lead">
          What operators changed, newest first. Entries are chained: none can be altered or taken out unnoticed.
        </p>
      </div>
    </div>
    <div class="panel">
      <PagedTable
        name="audit"
        caption="Changes by operators"
        :columns="['When', 'Operator', 'Did', 'Details']"
        :fetch="fetch"
        :refresh="5000"
      >
        <template #row="{ item }">
          <td><TimeOf :at="item.at" /></td>
          <td>{{ item.operator }}</td>
          <td>{{ item.action }}</td>
          <td class="details">{{ words(item.details) }}</td>
        </template>
        <template #empty
          ><EmptyState title="Nothing yet">Changes by operators are written down here.</EmptyState></template
        >
      </PagedTable>
    </div>
  </div>
</template>

<style scoped>
.details {
  overflow-wrap: anywhere;
}
</style>
