<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { answered, api } from '../api/client'
import { what } from '../app/assignments'
import EmptyState from '../components/EmptyState.vue'
import PagedTable from '../components/PagedTable.vue'
import ProblemNote from '../components/ProblemNote.vue'
import StateMark from '../components/StateMark.vue'

const props = defineProps<{ id: string }>()
const path = { id: props.id }
const group = useQuery({
  queryKey: ['groups', props.id],
  queryFn: () => answered(api.GET('/api/v1/groups/{id}', { params: { path } })),
  refetchInterval: 8000,
})
const members = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/groups/{id}/members', { params: { path, query: { after, count } } }))
const assignments = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/assignments', { params: { query: { after, count, group: props.id } } }))
</script>

<template>
  <div class="page">
    <ProblemNote :wrong="group.error.value" />
    <template v-if="group.data.value">
      <div class="head">
        <div class="grow">
          <h1>{{ group.data.value.name }}</h1>
          <p class="lead">
            A group of
            <router-link v-if="group.data.value.source" :to="`/sources/${group.data.value.source.key}`">{{
              group.data.value.source.label
            }}</router-link>
            · <span class="mono">{{ group.data.value.external_id || group.data.value.id }}</span>
          </p>
        </div>
      </div>
      <section class="panel" aria-labelledby="gives">
        <h2 id="gives">Roles that it gives</h2>
        <PagedTable
          name="group-assignments"
          caption="Assignments"
          :columns="['Application', 'Role', 'By']"
          :fetch="assignments"
          :about="id"
        >
          <template #row="{ item }">
            <td>
              <router-link :to="`/applications/${item.application.key}/mapping`">{{
                item.application.label
              }}</router-link>
            </td>
            <td>{{ what(item) }}</td>
            <td>{{ item.created_by }}</td>
          </template>
          <template #empty>
            <EmptyState title="It gives nothing">
              Map it to a role on an application's page, if being in it should give something.
            </EmptyState>
          </template>
        </PagedTable>
      </section>
      <section class="panel" aria-labelledby="members">
        <h2 id="members">Members ({{ group.data.value.members.toLocaleString('en') }})</h2>
        <PagedTable
          name="members"
          caption="Members"
          :columns="['Name', 'User name', 'State']"
          :fetch="members"
          :about="id"
        >
          <template #row="{ item }">
            <td>
              <router-link :to="`/people/${item.id}`">{{ item.display_name }}</router-link>
            </td>
            <td class="mono">{{ item.user_name }}</td>
            <td><StateMark :state="item.state" /></td>
          </template>
          <template #empty><EmptyState title="No members">The source lists nobody in it.</EmptyState></template>
        </PagedTable>
      </section>
    </template>
  </div>
</template>
