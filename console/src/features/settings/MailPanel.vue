<script setup lang="ts">
// The email server, with a test email.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useMay } from '../../app/session'
import BusyButton from '../../components/BusyButton.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const may = useMay()
const queries = useQueryClient()
const { wrong, attempt } = useAttempts()
const mail = useQuery({
  queryKey: ['mail'],
  queryFn: () => answered(api.GET('/api/v1/mail')),
  refetchInterval: 5000,
})
const given = ref({ host: '', port: 587, security: 'starttls', user: '', sender: '' })
const password = ref('')
const to = ref('')
const told = ref('')
const busy = ref(false)
const securities = [
  { title: 'STARTTLS', value: 'starttls' },
  { title: 'TLS', value: 'tls' },
  { title: 'None', value: 'none' },
]
/** The fields show the stored values until they are edited. */
let filled = false
watch(
  () => mail.data.value,
  (found) => {
    if (!found || filled) return
    filled = true
    const { host, port, security, user, sender } = found
    given.value = { host, port, security, user, sender }
  },
  { immediate: true },
)
const keep = () =>
  attempt(async () => {
    told.value = ''
    const body = {
      ...given.value,
      port: Number(given.value.port),
      ...(password.value ? { password: password.value } : {}),
    }
    await answered(api.PUT('/api/v1/mail', { body: body as Schemas['MailRequest'] }))
    await queries.invalidateQueries()
    password.value = ''
    told.value = 'Saved.'
  })
async function test(): Promise<void> {
  busy.value = true
  told.value = ''
  await attempt(async () => {
    const found = await answered(api.POST('/api/v1/mail/test', { body: { to: to.value } }))
    await queries.invalidateQueries()
    told.value = `The server accepted the email to ${found.sent_to}. Check that it arrives.`
  })
  busy.value = false
}
</script>

<template>
  <section class="panel" aria-labelledby="mail">
    <h2 id="mail">Email server</h2>
    <p class="quiet">
      Dravo uses this server for invitations, sign-in codes and notifications. Without a server, Dravo sends
      no email.
    </p>
    <ErrorMessage :wrong="wrong ?? mail.error.value" />
    <template v-if="mail.data.value">
      <p v-if="mail.data.value.host">
        <template v-if="mail.data.value.sent_at"
          >Last sent <TimeLabel :at="mail.data.value.sent_at" />.
        </template>
        <template v-if="mail.data.value.waiting">{{ mail.data.value.waiting }} emails are waiting. </template>
        <b v-if="mail.data.value.trouble" class="trouble"
          ><TimeLabel :at="mail.data.value.trouble_at" />: {{ mail.data.value.trouble }}</b
        >
      </p>
      <form aria-label="Email server" @submit.prevent="keep">
        <div class="fields">
          <v-text-field
            v-model="given.host"
            label="Host"
            :readonly="!may('settings.change')"
            spellcheck="false"
          />
          <v-text-field
            v-model.number="given.port"
            type="number"
            label="Port"
            :readonly="!may('settings.change')"
          />
          <v-select
            v-model="given.security"
            :items="securities"
            label="Security"
            :readonly="!may('settings.change')"
          />
          <v-text-field
            v-model="given.sender"
            label="Sender address"
            :readonly="!may('settings.change')"
            spellcheck="false"
          />
          <v-text-field
            v-model="given.user"
            label="User name (optional)"
            :readonly="!may('settings.change')"
            autocomplete="off"
            spellcheck="false"
          />
          <v-text-field
            v-if="may('settings.change')"
            v-model="password"
            type="password"
            autocomplete="new-password"
            :label="mail.data.value.has_password ? 'Password (saved)' : 'Password'"
          />
        </div>
        <v-btn v-if="may('settings.change')" type="submit" variant="outlined">Save</v-btn>
      </form>
      <form
        v-if="may('settings.change') && mail.data.value.host"
        class="row test"
        aria-label="A test"
        @submit.prevent="test"
      >
        <v-text-field v-model="to" label="Test recipient" class="narrow" hide-details />
        <BusyButton type="submit" variant="outlined" :busy="busy" :disabled="!to.trim()"
          >Send test email</BusyButton
        >
      </form>
      <p v-if="told" role="status">{{ told }}</p>
    </template>
  </section>
</template>

<style scoped>
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(260px, 1fr));
  gap: 12px 16px;
  margin-bottom: 12px;
}
.test {
  margin-top: 14px;
  max-width: 520px;
}
.trouble {
  color: rgb(var(--v-theme-look));
}
</style>
