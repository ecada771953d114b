<script setup lang="ts">
// Announcements: emails to the users of a source or an application, before it is switched over.
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref, watch } from 'vue'
import { answered, api } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useApplicationChoices, useSourceChoices } from '../../app/choices'
import { usePaused } from '../../app/debounce'
import { useMay } from '../../app/session'
import EmptyState from '../../components/EmptyState.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import FormDialog from '../../components/FormDialog.vue'
import PagedTable from '../../components/PagedTable.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import SampleEmail from './SampleEmail.vue'

const may = useMay()
const open = ref(false)
const { wrong, attempt } = useAttempts()
const { wrong: refused, busy, attempt: attemptSend } = useAttempts()
const applications = useApplicationChoices()
const sources = useSourceChoices()
const fields = reactive({
  about: 'application' as 'application' | 'source',
  key: null as string | null,
  subject: '',
  text: '',
})
const hour = ref('')
const choices = computed(() => (fields.about === 'source' ? sources.value : applications.value))
watch(
  () => fields.about,
  () => (fields.key = null),
)
function begin(): void {
  Object.assign(fields, { about: 'application', key: null, subject: '', text: '' })
  hour.value = ''
  refused.value = null
  open.value = true
}
const wish = computed(() => ({ ...fields, key: fields.key ?? '' }))
const settled = usePaused(() => wish.value, 300)
const complete = computed(() =>
  Boolean(wish.value.key && wish.value.subject.trim() && wish.value.text.trim()),
)
const sample = useQuery({
  queryKey: computed(() => ['announcement preview', settled.value]),
  queryFn: () => answered(api.POST('/api/v1/notifications/announcements/preview', { body: settled.value })),
  enabled: () => open.value && complete.value && settled.value === wish.value,
  retry: false,
})
const previewed = computed(() => (complete.value ? sample.data.value : undefined))
async function send(): Promise<void> {
  const body = {
    ...wish.value,
    send_at: hour.value ? new Date(hour.value).toISOString() : null,
    expect: previewed.value?.recipients ?? null,
  }
  if (await attemptSend(() => answered(api.POST('/api/v1/notifications/announcements', { body }))))
    open.value = false
}
const withdraw = (id: string) =>
  attempt(() =>
    answered(api.POST('/api/v1/notifications/announcements/{id}/withdraw', { params: { path: { id } } })),
  )
const announcements = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/notifications/announcements', { params: { query: { after, count } } }))
const act = computed(() => {
  const number = previewed.value?.recipients
  if (number === undefined) return hour.value ? 'Schedule' : 'Send'
  const users = `${number.toLocaleString('en')} ${number === 1 ? 'user' : 'users'}`
  return hour.value ? `Schedule for ${users}` : `Send to ${users}`
})
</script>

<template>
  <section class="panel" aria-labelledby="announcements">
    <div class="row between">
      <h2 id="announcements">Announcements</h2>
      <v-btn v-if="may('notifications.change')" color="primary" @click="begin">Create announcement</v-btn>
    </div>
    <p class="quiet">An email to the users of a source or an application, before it is switched over.</p>
    <ErrorMessage :wrong="wrong" />
    <PagedTable
      name="announcements"
      caption="Announcements"
      :columns="['Announcement', 'Status', 'Sent at', 'Emails', '']"
      :fetch="announcements"
      :count="20"
      :refresh="5000"
    >
      <template #row="{ item }">
        <td>
          {{ item.subject }}
          <div class="quiet">users of {{ item.about_label }}</div>
        </td>
        <td><StatusLabel :status="item.status" /></td>
        <td>
          <TimeLabel :at="item.send_at" />
          <div class="quiet">by {{ item.created_by }}</div>
        </td>
        <td>{{ item.written.toLocaleString('en') }}</td>
        <td class="actions">
          <v-btn
            v-if="['scheduled', 'sending'].includes(item.status) && may('notifications.change')"
            size="small"
            variant="outlined"
            @click="withdraw(item.id)"
            >Withdraw</v-btn
          >
        </td>
      </template>
      <template #empty
        ><EmptyState title="No announcements"
          >Tell users about a new sign-in before it is enabled.</EmptyState
        ></template
      >
    </PagedTable>
    <FormDialog
      v-model="open"
      wide
      title="Create announcement"
      :act="act"
      :wrong="refused ?? (complete ? sample.error.value : null)"
      :busy="busy"
      :waiting="complete && sample.isFetching.value"
      @done="send"
    >
      <v-radio-group v-model="fields.about" label="To the users of" inline hide-details>
        <v-radio value="application" label="an application" />
        <v-radio value="source" label="a source" />
      </v-radio-group>
      <v-autocomplete
        v-model="fields.key"
        :items="choices"
        :label="fields.about === 'source' ? 'Source' : 'Application'"
      />
      <v-text-field v-model="fields.subject" label="Subject" maxlength="200" />
      <v-textarea v-model="fields.text" label="Text" rows="4" auto-grow maxlength="5000" />
      <v-text-field
        v-model="hour"
        type="datetime-local"
        label="Send at (empty: now)"
        hint="In the time zone of this browser."
        persistent-hint
      />
      <template v-if="previewed">
        <p role="status">
          {{ previewed.recipients.toLocaleString('en') }} active users get this email.
          <template v-if="previewed.without">
            {{ previewed.without.toLocaleString('en') }} without an email address get none.
          </template>
        </p>
        <SampleEmail :email="previewed" />
      </template>
    </FormDialog>
  </section>
</template>

<style scoped>
.between {
  justify-content: space-between;
}
</style>
