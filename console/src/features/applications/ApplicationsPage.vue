<script setup lang="ts">
import { useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { answered, api } from '../../api/client'
import FormDialog from '../../components/FormDialog.vue'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import { keyOf } from '../../app/keys'

const router = useRouter()
const queries = useQueryClient()
const adding = ref(false)
const label = ref('')
const key = ref('')
const owner = ref('')
const trackedOnly = ref(false)
const wrong = ref<unknown>(null)

async function add(): Promise<void> {
  try {
    const body = {
      key: key.value || keyOf(label.value),
      label: label.value,
      owner: owner.value || null,
      tracked_only: trackedOnly.value,
    }
    const made = await answered(api.POST('/api/v1/applications', { body }))
    await queries.invalidateQueries()
    await router.push(`/applications/${made.key}/settings`)
  } catch (problem) {
    wrong.value = problem
  }
}
const fetch = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/applications', { params: { query: { after, count } } }))
</script>

<template>
  <div class="page">
    <div class="head">
      <div class="grow">
        <h1>Applications</h1>
        <p class="lead">What people use: each with its roles, who gets them, and how accounts reach it.</p>
      </div>
      <v-btn color="primary" @click="adding = true">Add an application</v-btn>
    </div>
    <div class="panel">
      <PagedTable
        name="applications"
        caption="Applications"
        :columns="['Application', 'State', 'Owner', 'Users', 'Accounts', 'Waiting', 'Failed', 'Last answer']"
        :fetch="fetch"
        :refresh="4000"
      >
        <template #row="{ item }">
          <td>
            <router-link :to="`/applications/${item.key}`">{{ item.label }}</router-link>
          </td>
          <td><StatusLabel :state="item.state" :title="item.trouble ?? undefined" /></td>
          <td>{{ item.owner }}</td>
          <td>{{ item.people.toLocaleString('en') }}</td>
          <td>{{ item.accounts.toLocaleString('en') }}</td>
          <td>{{ item.waiting }}</td>
          <td>
            <router-link v-if="item.failed" :to="`/provisioning/tasks?state=failed&application=${item.key}`">{{
              item.failed
            }}</router-link>
            <template v-else>0</template>
          </td>
          <td><TimeLabel :at="item.answered_at" /></td>
        </template>
        <template #empty>
          <EmptyState title="No application yet">
            Add what people use: then its roles, its connection, and which groups get which role.
          </EmptyState>
        </template>
      </PagedTable>
    </div>
    <FormDialog v-model="adding" title="Add an application" act="Add the application" :wrong="wrong" @done="add">
      <v-text-field v-model="label" label="Label" />
      <v-text-field
        v-model="key"
        label="Key"
        :placeholder="keyOf(label)"
        persistent-placeholder
        persistent-hint
        hint="Stands in addresses and never changes."
      />
      <v-text-field v-model="owner" label="Owner" hint="Who answers for it" />
      <v-checkbox v-model="trackedOnly" label="Only tracked: its accounts are kept by hand, nothing is delivered" />
    </FormDialog>
  </div>
</template>
