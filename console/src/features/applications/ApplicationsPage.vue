<script setup lang="ts">
// The applications, with their status and numbers.
import { ref } from 'vue'
import { answered, api } from '../../api/client'
import { useMay } from '../../app/session'
import ApplicationIcon from '../../components/ApplicationIcon.vue'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import AddApplication from './AddApplication.vue'
import AddSeveral from './AddSeveral.vue'

const may = useMay()
const adding = ref(false)
const addingSeveral = ref(false)
const fetch = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/applications', { params: { query: { after, count } } }))
</script>

<template>
  <div class="page">
    <div class="head">
      <div class="grow">
        <h1>Applications</h1>
        <p class="lead">The applications that your users work with, their roles and their accounts.</p>
      </div>
      <template v-if="may('applications.change')">
        <v-btn variant="text" @click="addingSeveral = true">Add several</v-btn>
        <v-btn color="primary" @click="adding = true">Add application</v-btn>
      </template>
    </div>
    <div class="panel">
      <PagedTable
        name="applications"
        caption="Applications"
        :columns="[
          'Application',
          'Status',
          'Owner',
          'Users',
          'Accounts',
          'Waiting',
          'Failed',
          'Last response',
        ]"
        :fetch="fetch"
        :refresh="4000"
      >
        <template #row="{ item }">
          <td>
            <ApplicationIcon :application="item" />
            <router-link :to="`/applications/${item.key}`" class="name">{{ item.label }}</router-link>
            <div v-if="item.instance_of" class="quiet">instance of {{ item.instance_of.label }}</div>
          </td>
          <td><StatusLabel :status="item.status" :title="item.trouble ?? undefined" /></td>
          <td>{{ item.owner }}</td>
          <td>{{ item.users.toLocaleString('en') }}</td>
          <td>{{ item.accounts.toLocaleString('en') }}</td>
          <td>
            {{ item.waiting.toLocaleString('en') }}
            <router-link v-if="item.manual" :to="`/applications/${item.key}/manual`"
              >{{ item.manual.toLocaleString('en') }} by hand</router-link
            >
          </td>
          <td>
            <router-link
              v-if="item.failed"
              :to="`/provisioning/tasks?status=failed&application=${item.key}`"
              >{{ item.failed }}</router-link
            >
            <template v-else>0</template>
          </td>
          <td><TimeLabel :at="item.answered_at" /></td>
        </template>
        <template #empty>
          <EmptyState title="No applications yet">
            Add an application, then its roles, its connection and its role mapping.
          </EmptyState>
        </template>
      </PagedTable>
    </div>
    <AddApplication v-model="adding" />
    <AddSeveral v-model="addingSeveral" />
  </div>
</template>

<style scoped>
.name {
  margin-left: 8px;
}
</style>
