<script setup lang="ts">
// Emails and webhook messages, and whether they arrived.
import { mdiMagnify } from '@mdi/js'
import { computed } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useAddressFilter, useWords } from '../../app/addressFilters'
import { useMay } from '../../app/session'
import EmptyState from '../../components/EmptyState.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import PagedTable from '../../components/PagedTable.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

type Message = Schemas['Message']
const may = useMay()
const { wrong, attempt } = useAttempts()
const { typed, words } = useWords()
const status = useAddressFilter('message')
const channel = useAddressFilter('channel')
const about = computed(() => ({
  status: status.value as Message['status'] | undefined,
  channel: channel.value as Message['channel'] | undefined,
  q: words.value,
}))
const messages = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/notifications/messages', { params: { query: { after, count, ...about.value } } }))
const sendAgain = (id: string) =>
  attempt(() =>
    answered(api.POST('/api/v1/notifications/messages/{id}/send-again', { params: { path: { id } } })),
  )
const statuses = ['collected', 'waiting', 'sent', 'failed', 'expired', 'unknown']
</script>

<template>
  <section class="panel" aria-labelledby="messages">
    <h2 id="messages">Messages</h2>
    <ErrorMessage :wrong="wrong" />
    <div class="row filters">
      <v-text-field
        v-model="typed"
        :prepend-inner-icon="mdiMagnify"
        label="Recipient or subject"
        clearable
        class="words"
      />
      <v-select v-model="status" :items="statuses" label="Message status" clearable class="narrow" />
      <v-select v-model="channel" :items="['email', 'webhook']" label="Channel" clearable class="narrow" />
    </div>
    <PagedTable
      name="messages"
      caption="Messages"
      :columns="['Recipient', 'Subject', 'Status', 'Written', '']"
      :fetch="messages"
      :about="about"
      :count="20"
      :refresh="5000"
    >
      <template #row="{ item }">
        <td>
          {{ item.recipient }}
          <div class="quiet">{{ item.channel }}</div>
        </td>
        <td>
          {{ item.subject }}
          <div v-if="item.trouble" class="quiet">{{ item.trouble }}</div>
        </td>
        <td>
          <StatusLabel :status="item.status" />
          <div v-if="item.next_at && item.tries" class="quiet">next <TimeLabel :at="item.next_at" /></div>
        </td>
        <td><TimeLabel :at="item.created_at" /></td>
        <td>
          <v-btn
            v-if="item.can_repeat && may('notifications.change')"
            size="small"
            variant="outlined"
            @click="sendAgain(item.id)"
            >{{ item.status === 'collected' ? 'Send now' : 'Send again' }}</v-btn
          >
        </td>
      </template>
      <template #empty><EmptyState title="No messages">Nothing fits these filters.</EmptyState></template>
    </PagedTable>
  </section>
</template>
