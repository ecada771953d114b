<script setup lang="ts">
// Users with their roles, of all applications or of one.
import { answered, api } from '../../api/client'
import { because } from '../../app/assignments'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{
  about: { q?: string; application?: string; ended?: boolean }
  within?: boolean
}>()

const fetch = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/access', { params: { query: { after, count, ...props.about } } }))
const columns = ['User', ...(props.within ? [] : ['Application']), 'Role', 'Reason', 'Since', 'Account']
</script>

<template>
  <PagedTable name="access" caption="Access" :columns="columns" :fetch="fetch" :about="about" :refresh="4000">
    <template #row="{ item }">
      <td>
        <router-link :to="`/users/${item.user.id}`">{{ item.user.display_name }}</router-link>
      </td>
      <td v-if="!within">
        <router-link :to="`/applications/${item.application.key}`">{{ item.application.label }}</router-link>
      </td>
      <td>{{ item.role.label }}</td>
      <td>
        <template
          v-for="(reason, number) in item.reasons.filter((each) => item.until || !each.until)"
          :key="number"
        >
          <template v-if="number">, </template>
          <router-link v-if="reason.group" :to="`/groups/${reason.group.id}`">{{
            because(reason)
          }}</router-link>
          <template v-else>{{ because(reason) }}</template>
        </template>
      </td>
      <td>
        <TimeLabel :at="item.since" /><template v-if="item.until">
          to <TimeLabel :at="item.until"
        /></template>
      </td>
      <td>
        <router-link v-if="item.account?.task" :to="`/provisioning/tasks/${item.account.task.id}`">
          <StatusLabel :status="item.account.status" />
        </router-link>
        <StatusLabel v-else-if="item.account" :status="item.account.status" />
        <span v-else class="quiet">not provisioned</span>
      </td>
    </template>
    <template #empty>
      <EmptyState title="No access"
        >Map a group to a role on the application's page to give its members access.</EmptyState
      >
    </template>
  </PagedTable>
</template>
