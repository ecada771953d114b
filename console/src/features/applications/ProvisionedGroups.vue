<script setup lang="ts">
// The groups that go over to an application, each with its own state.
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
    await answered(api.POST('/api/v1/applications/{key}/groups/{id}/retry', { params: { path: { ...path, id } } }))
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
    caption="Groups that go over"
    :columns="['Group there', 'Made of', 'Members due', 'Members there', 'State', 'Since', 'What was said', '']"
    :fetch="fetch"
    :refresh="3000"
  >
    <template #row="{ item }">
      <td>
        <b>{{ item.name }}</b>
        <div v-if="item.going" class="quiet">it is to go</div>
        <div v-else-if="item.origin" class="quiet">{{ item.origin === 'made' ? 'made by Dravo' : 'adopted' }}</div>
      </td>
      <td>
        <router-link v-if="item.kind === 'group'" :to="`/groups/${item.of}`">the group</router-link>
        <template v-else>the role</template>
      </td>
      <td>{{ item.members.toLocaleString('en') }}</td>
      <td>{{ item.members_there.toLocaleString('en') }}</td>
      <td><StatusLabel :state="item.state === 'done' ? 'agreed' : item.state" /></td>
      <td><TimeLabel :at="item.applied_at" never="not yet" /></td>
      <td class="said">
        {{ item.message }} <template v-if="item.hint"><br /><b>Hint:</b> {{ item.hint }}</template>
      </td>
      <td><v-btn v-if="item.state !== 'done'" size="small" variant="outlined" @click="again(item.id)">Again</v-btn></td>
    </template>
    <template #empty>
      <EmptyState title="No group goes over">
        Under Roles and connection, choose which groups go over: those that give roles here, or some by name.
      </EmptyState>
    </template>
  </PagedTable>
</template>

<style scoped>
.said {
  max-width: 360px;
}
</style>
