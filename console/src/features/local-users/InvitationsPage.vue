<script setup lang="ts">
// Invitations of local users, with their status.
import { mdiMagnify } from '@mdi/js'
import { computed, ref } from 'vue'
import { answered, api } from '../../api/client'
import { useAddressFilter, useWords } from '../../app/addressFilters'
import { useLocalUsers } from '../../app/localUsers'
import { useMay } from '../../app/session'
import EmptyState from '../../components/EmptyState.vue'
import GuideButton from '../../components/GuideButton.vue'
import PagedTable from '../../components/PagedTable.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import UsersTabs from '../users/UsersTabs.vue'
import InvitationActions from './InvitationActions.vue'
import InviteDialog from './InviteDialog.vue'

const may = useMay()
const local = useLocalUsers()
const inviting = ref(false)
const { typed, words } = useWords()
const status = useAddressFilter('status')
const about = computed(() => ({ q: words.value, status: status.value as 'open' | undefined }))
const fetch = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/invitations', { params: { query: { after, count, ...about.value } } }))
</script>

<template>
  <div class="page">
    <div class="head">
      <div class="grow">
        <h1>Invitations</h1>
        <p class="lead">Local users get an email with a link. They are pending until they accept.</p>
      </div>
      <GuideButton guide="invite-users" />
      <v-btn v-if="local && may('users.change')" color="primary" @click="inviting = true">Invite users</v-btn>
    </div>
    <UsersTabs />
    <div class="panel">
      <div class="row filters">
        <v-text-field
          v-model="typed"
          :prepend-inner-icon="mdiMagnify"
          label="Name, user name or email"
          clearable
          class="words"
        />
        <v-select
          v-model="status"
          label="Status"
          clearable
          class="narrow"
          :items="['open', 'expired', 'accepted', 'withdrawn']"
        />
      </div>
      <PagedTable
        name="invitations"
        caption="Invitations"
        :columns="['User', 'Email', 'Status', 'Sent', 'Valid until', 'By', '']"
        :fetch="fetch"
        :about="about"
        :refresh="5000"
      >
        <template #row="{ item }">
          <td>
            <router-link :to="`/users/${item.user.id}`">{{ item.user.display_name }}</router-link>
          </td>
          <td>{{ item.email }}</td>
          <td>
            <StatusLabel :status="item.status" />
            <div v-if="item.accepted_at" class="quiet"><TimeLabel :at="item.accepted_at" /></div>
          </td>
          <td><TimeLabel :at="item.sent_at" /></td>
          <td>
            <TimeLabel v-if="['open', 'expired'].includes(item.status)" :at="item.until_at" />
          </td>
          <td>{{ item.invited_by }}</td>
          <td class="actions"><InvitationActions :invitation="item" /></td>
        </template>
        <template #empty>
          <EmptyState :title="words || status ? 'No matching invitations' : 'No invitations yet'">
            {{
              words || status
                ? 'Try fewer letters or another status.'
                : 'Invite users who belong to no source, such as guests.'
            }}
          </EmptyState>
        </template>
      </PagedTable>
    </div>
    <InviteDialog v-model="inviting" />
  </div>
</template>
