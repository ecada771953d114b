<script setup lang="ts">
// The SCIM connection of an application: base URL, authentication and check.
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import BusyButton from '../../components/BusyButton.vue'
import CheckSteps from '../../components/CheckSteps.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
const path = { key: props.application.key }
const present = props.application.connection
const address = ref(present.base_url ?? '')
const token = ref('')
const way = ref({
  kind: present.auth.kind as 'bearer' | 'basic' | 'client_credentials',
  user: present.auth.user ?? '',
  token_url: present.auth.token_url ?? '',
  client_id: present.auth.client_id ?? '',
  scope: present.auth.scope ?? '',
  ca: present.auth.ca ?? '',
})
const until = ref(present.secret_expires_at?.slice(0, 10) ?? '')
const { wrong, attempt } = useAttempts()
const check = ref<Schemas['Check'] | null>(null)
const checking = ref(false)
const ways = [
  { title: 'Bearer token', value: 'bearer' },
  { title: 'User name and password', value: 'basic' },
  { title: 'OAuth 2.0 client credentials', value: 'client_credentials' },
]
const secretName = computed(
  () => ({ bearer: 'Token', basic: 'Password', client_credentials: 'Client secret' })[way.value.kind],
)

const body = computed(() => ({
  base_url: address.value,
  token: token.value || null,
  auth: { ...way.value },
  expires_at: until.value ? `${until.value}T23:59:59Z` : null,
}))
// Entered values that are not saved are checked apart from the saved connection.
const entered = ref<string | null>(null)
async function checkEntered(): Promise<void> {
  checking.value = true
  await attempt(async () => {
    const call = api.POST('/api/v1/applications/{key}/connection/preview', {
      params: { path },
      body: body.value,
    })
    check.value = await answered(call)
    entered.value = check.value.base_url
  })
  checking.value = false
}
async function connect(): Promise<void> {
  await attempt(async () => {
    const sent = body.value
    const call = api.PUT('/api/v1/applications/{key}/connection', { params: { path }, body: sent })
    const made = await answered(call)
    // What was typed meanwhile stays.
    if (address.value === sent.base_url) address.value = made.connection.base_url ?? ''
    if (token.value === (sent.token ?? '')) token.value = ''
  })
  if (!wrong.value) await tryConnection(false)
}
async function tryConnection(withUser: boolean): Promise<void> {
  checking.value = true
  await attempt(async () => {
    const params = { path, query: { with_test_user: withUser } }
    check.value = await answered(api.POST('/api/v1/applications/{key}/connection/test', { params }))
    entered.value = null
  })
  checking.value = false
}
</script>

<template>
  <section aria-labelledby="connection">
    <h2 id="connection">Connection</h2>
    <ErrorMessage :wrong="wrong" />
    <form class="form" aria-label="Connection" @submit.prevent="connect">
      <div class="row">
        <v-text-field
          v-model="address"
          label="SCIM base URL"
          placeholder="https://HOST/scim/v2"
          class="address"
          autocomplete="off"
        />
        <v-select v-model="way.kind" :items="ways" label="Authentication" class="narrow" />
      </div>
      <div class="row">
        <v-text-field v-if="way.kind === 'basic'" v-model="way.user" label="User name" class="narrow" />
        <template v-if="way.kind === 'client_credentials'">
          <v-text-field v-model="way.token_url" label="Token URL" class="address" />
          <v-text-field v-model="way.client_id" label="Client ID" class="narrow" />
          <v-text-field v-model="way.scope" label="Scope (optional)" class="narrow" />
        </template>
        <v-text-field
          v-model="token"
          :label="secretName"
          type="password"
          autocomplete="off"
          :placeholder="application.connection.has_secret ? 'kept, encrypted' : ''"
          persistent-placeholder
          class="narrow"
        />
        <v-text-field v-model="until" type="date" label="Expires on (optional)" class="narrow" />
      </div>
      <v-textarea
        v-model="way.ca"
        label="Certificate of your own CA (PEM, optional)"
        rows="1"
        auto-grow
        max-rows="6"
        class="address mono"
        spellcheck="false"
      />
      <div class="row">
        <BusyButton type="submit" color="primary" :busy="checking">Save and check</BusyButton>
        <BusyButton variant="outlined" :busy="checking" @click="checkEntered"
          >Check without saving</BusyButton
        >
        <BusyButton
          v-if="application.connection.base_url"
          variant="outlined"
          :busy="checking"
          @click="tryConnection(false)"
          >Check again</BusyButton
        >
        <template v-if="application.connection.has_secret">
          <BusyButton variant="outlined" :busy="checking" @click="tryConnection(true)"
            >Check with a test account</BusyButton
          >
          <span class="quiet">Dravo creates, updates and deletes a test account in the application.</span>
        </template>
      </div>
      <p v-if="check && entered" role="note">
        Nothing was saved. Checked address: <code>{{ entered }}</code>
        <template v-if="entered !== address.trim()"> (corrected)</template>
      </p>
      <CheckSteps v-if="check" :check="check" />
    </form>
    <div v-if="application.connection.capabilities" class="can">
      <h3>
        Capabilities reported by the application
        <span class="quiet"
          >(read <TimeLabel :at="application.connection.checked_at" never="at the first task" />)</span
        >
      </h3>
      <ul v-if="application.connection.capabilities.notes.length">
        <li v-for="note in application.connection.capabilities.notes" :key="note">{{ note }}</li>
      </ul>
      <p v-else class="quiet">
        The application supports everything that Dravo needs: PATCH, filters, groups and inactive accounts.
      </p>
    </div>
  </section>
</template>

<style scoped>
.narrow {
  flex: 0 1 230px;
}
.address {
  flex: 1 1 380px;
  max-width: 560px;
}
.can h3 {
  font-size: 15px;
  margin: 14px 0 2px;
}
.can ul {
  margin: 0;
  padding-left: 20px;
}
</style>
