<script setup lang="ts">
import { useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { answered, api } from '../../api/client'
import FormDialog from '../../components/FormDialog.vue'
import EmptyState from '../../components/EmptyState.vue'
import OwnerSelect from '../../components/OwnerSelect.vue'
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
        <p class="lead">The applications that your users work with, their roles and their accounts.</p>
      </div>
      <v-btn color="primary" @click="adding = true">Add application</v-btn>
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
            <router-link :to="`/applications/${item.key}`">{{ item.label }}</router-link>
          </td>
          <td><StatusLabel :status="item.status" :title="item.trouble ?? undefined" /></td>
          <td>{{ item.owner }}</td>
          <td>{{ item.users.toLocaleString('en') }}</td>
          <td>{{ item.accounts.toLocaleString('en') }}</td>
          <td>{{ item.waiting }}</td>
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
    <FormDialog v-model="adding" title="Add application" act="Add" :wrong="wrong" @done="add">
      <v-text-field v-model="label" label="Label" />
      <v-text-field
        v-model="key"
        label="Key"
        :placeholder="keyOf(label)"
        persistent-placeholder
        persistent-hint
        hint="Used in URLs. It cannot be changed later."
      />
      <OwnerSelect v-model="owner" />
      <v-checkbox v-model="trackedOnly" label="Track only: Dravo does not provision accounts" />
    </FormDialog>
  </div>
</template>
