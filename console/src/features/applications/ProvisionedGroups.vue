<script setup lang="ts">
// The provisioned groups of an application with their status.
import { useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import { answered, api } from '../../api/client'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ application: string }>()
const queries = useQueryClient()
const path = { key: props.application }
const wrong = ref<unknown>(null)
const fetch = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/applications/{key}/groups', { params: { path, query: { after, count } } }))
async function again(id: string): Promise<void> {
  try {
    await answered(
      api.POST('/api/v1/applications/{key}/groups/{id}/retry', { params: { path: { ...path, id } } }),
    )
    await queries.invalidateQueries()
  } catch (problem) {
    wrong.value = problem
  }
}
</script>

<template>
  <ErrorMessage :wrong="wrong" />
  <PagedTable
    :name="`groups-of-${application}`"
    caption="Provisioned groups"
    :columns="[
      'Group in the application',
      'Source',
      'Desired members',
      'Applied members',
      'Status',
      'Since',
      'Message',
      '',
    ]"
    :fetch="fetch"
    :refresh="3000"
  >
    <template #row="{ item }">
      <td>
        <b>{{ item.name }}</b>
        <div v-if="item.going" class="quiet">to be deleted</div>
        <div v-else-if="item.origin" class="quiet">
          {{ item.origin === 'made' ? 'created by Dravo' : 'adopted' }}
        </div>
      </td>
      <td>
        <router-link v-if="item.kind === 'group'" :to="`/groups/${item.of}`">group</router-link>
        <template v-else>role</template>
      </td>
      <td>{{ item.members.toLocaleString('en') }}</td>
      <td>{{ item.members_there.toLocaleString('en') }}</td>
      <td><StatusLabel :status="item.status === 'done' ? 'in_sync' : item.status" /></td>
      <td><TimeLabel :at="item.applied_at" never="not yet" /></td>
      <td class="said">
        {{ item.message }} <template v-if="item.hint"><br /><b>How to fix:</b> {{ item.hint }}</template>
      </td>
      <td>
        <v-btn v-if="item.status !== 'done'" size="small" variant="outlined" @click="again(item.id)"
          >Retry</v-btn
        >
      </td>
    </template>
    <template #empty>
      <EmptyState title="No provisioned groups">
        Choose under Settings which groups Dravo provisions: all groups that assign roles, or selected ones.
      </EmptyState>
    </template>
  </PagedTable>
</template>

<style scoped>
.said {
  max-width: 360px;
}
</style>
