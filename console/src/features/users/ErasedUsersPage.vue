<script setup lang="ts">
// Users who were erased: who did it and when, and a way to accept their records again.
import { ref } from 'vue'
import { answered, api } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useMay } from '../../app/session'
import EmptyState from '../../components/EmptyState.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import PagedTable from '../../components/PagedTable.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import UsersTabs from './UsersTabs.vue'

const may = useMay()
const version = ref(0)
const { wrong, attempt } = useAttempts()
const fetch = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/erased-users', { params: { query: { after, count } } }))
const accept = (id: string) =>
  attempt(async () => {
    await answered(api.POST('/api/v1/erased-users/{id}/accept', { params: { path: { id } } }))
    version.value += 1
  })
</script>

<template>
  <div class="page">
    <div class="head">
      <div class="grow">
        <h1>Erased users</h1>
        <p class="lead">Sources cannot bring these users back until you accept their records again.</p>
      </div>
    </div>
    <UsersTabs />
    <div class="panel">
      <ErrorMessage :wrong="wrong" />
      <PagedTable
        name="erased-users"
        caption="Erased users"
        :columns="['ID', 'Erased', 'By', 'Records of sources', '']"
        :fetch="fetch"
        :about="version"
      >
        <template #row="{ item }">
          <td class="mono">{{ item.user_id }}</td>
          <td><TimeLabel :at="item.erased_at" /></td>
          <td>{{ item.erased_by }}</td>
          <td>
            <template v-if="item.accepted_at">
              accepted again <TimeLabel :at="item.accepted_at" /> by {{ item.accepted_by }}
            </template>
            <template v-else>ignored</template>
          </td>
          <td>
            <v-btn
              v-if="!item.accepted_at && may('users.change')"
              size="small"
              variant="outlined"
              :aria-label="`Accept again: records of ${item.user_id}`"
              @click="accept(item.id)"
              >Accept again</v-btn
            >
          </td>
        </template>
        <template #empty>
          <EmptyState title="No erased users">
            Erase a user who has left on the page of the user. Dravo then deletes what it stores about the
            user.
          </EmptyState>
        </template>
      </PagedTable>
    </div>
  </div>
</template>
