<script setup lang="ts">
// The access requests of users, to approve or refuse.
import { ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useMay } from '../../app/session'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import ApproveRequest from './ApproveRequest.vue'
import RefuseRequest from './RefuseRequest.vue'

type AccessRequest = Schemas['AccessRequestLine']
const may = useMay()
const status = ref<'open' | 'all'>('open')
const approving = ref<AccessRequest | null>(null)
const refusing = ref<AccessRequest | null>(null)
const fetch = (after: string | undefined, count: number) => {
  const query = { after, count, status: status.value === 'open' ? ('open' as const) : undefined }
  return answered(api.GET('/api/v1/access/requests', { params: { query } }))
}
</script>

<template>
  <div class="row filters">
    <v-btn-toggle v-model="status" mandatory density="compact" aria-label="Status">
      <v-btn value="open" size="small">Open</v-btn>
      <v-btn value="all" size="small">All</v-btn>
    </v-btn-toggle>
    <span class="quiet">
      Users request access under Your applications, if the application allows it. An approval is an
      assignment.
    </span>
  </div>
  <PagedTable
    :key="status"
    :name="`access-requests-${status}`"
    caption="Access requests"
    :columns="['User', 'Application', 'Role', 'Reason', 'Requested', 'Status', '']"
    :fetch="fetch"
    :refresh="5000"
  >
    <template #row="{ item }">
      <td>
        <router-link :to="`/users/${item.user.id}`">{{ item.user.display_name }}</router-link>
        <div class="quiet">{{ item.user.user_name }}</div>
      </td>
      <td>
        <router-link :to="`/applications/${item.application.key}`">{{ item.application.label }}</router-link>
      </td>
      <td>{{ item.role?.label ?? 'to be chosen' }}</td>
      <td class="reason">{{ item.reason }}</td>
      <td><TimeLabel :at="item.requested_at" /></td>
      <td>
        <StatusLabel :status="item.status" />
        <div v-if="item.decided_by" class="quiet">by {{ item.decided_by }}</div>
        <div v-if="item.answer" class="quiet reason">{{ item.answer }}</div>
      </td>
      <td>
        <template v-if="item.status === 'open' && may('assignments.change')">
          <v-btn size="small" variant="outlined" @click="approving = item">Approve</v-btn>
          <v-btn size="small" variant="text" @click="refusing = item">Refuse</v-btn>
        </template>
      </td>
    </template>
    <template #empty>
      <EmptyState :title="status === 'open' ? 'No open requests' : 'No requests yet'">
        To let users request access, edit an application and switch on “Users can request access”.
      </EmptyState>
    </template>
  </PagedTable>
  <ApproveRequest v-model="approving" />
  <RefuseRequest v-model="refusing" />
</template>

<style scoped>
.filters {
  align-items: center;
  display: flex;
  gap: 14px;
  margin-bottom: 12px;
}
.reason {
  max-width: 320px;
  white-space: pre-line;
}
</style>
