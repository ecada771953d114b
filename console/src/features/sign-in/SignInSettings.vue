<script setup lang="ts">
// The sign-in settings of a source: values for the provider, values from the provider, and options.
import { mdiAlertOutline, mdiFileDownloadOutline } from '@mdi/js'
import { useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useMay } from '../../app/session'
import BusyButton from '../../components/BusyButton.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import ChecklistStatus from '../../components/ChecklistStatus.vue'
import ChecklistValues from '../../components/ChecklistValues.vue'
import SignInStatus from './SignInStatus.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ source: string; label: string; signIn: Schemas['SignIn'] }>()
const may = useMay()
const queries = useQueryClient()
const path = { key: props.source }
const { wrong, attempt } = useAttempts()
const saml = computed(() => props.signIn.protocol === 'saml')
const mailed = computed(() => props.signIn.protocol === 'email_code')
interface Settings {
  [name: string]: string | boolean | number
}
const settings = ref<Settings>({ ...(props.signIn.settings as Settings) })
const metadata = ref('')
const fields = ref({
  entity_id: props.signIn.provider.entity_id,
  sign_in: props.signIn.provider.sign_in,
  certificates: '',
})
const secret = ref('')
const busy = ref(false)
const kept = ref('')
async function keep(more: Record<string, unknown>, words: string): Promise<void> {
  busy.value = true
  kept.value = ''
  await attempt(async () => {
    await answered(
      api.PUT('/api/v1/sources/{key}/sign-in', {
        params: { path },
        body: more as Schemas['SignInSettingsRequest'],
      }),
    )
    await queries.invalidateQueries()
    kept.value = words
    metadata.value = secret.value = fields.value.certificates = ''
  })
  busy.value = false
}
const keepSettings = () =>
  keep(
    { settings: { ...settings.value }, ...(secret.value ? { secret: secret.value } : {}), look: true },
    'Saved.',
  )
const keepFields = () =>
  keep(
    {
      fields: {
        entity_id: fields.value.entity_id,
        sign_in: fields.value.sign_in,
        ...(fields.value.certificates.trim() ? { certificates: fields.value.certificates } : {}),
      },
    },
    'Saved.',
  )
async function drop(files: FileList | null): Promise<void> {
  if (files?.[0]) metadata.value = await files[0].text()
}
const takeOver = () =>
  attempt(async () => {
    await answered(api.POST('/api/v1/sources/{key}/sign-in/certificates', { params: { path } }))
    await queries.invalidateQueries()
  })
const keys = (what: 'next' | 'use') =>
  attempt(async () => {
    await answered(api.POST('/api/v1/sources/{key}/sign-in/keys', { params: { path }, body: { what } }))
    await queries.invalidateQueries()
  })
function hand(text: string, name: string): void {
  const address = URL.createObjectURL(new Blob([text], { type: 'text/plain' }))
  Object.assign(document.createElement('a'), { href: address, download: name }).click()
  URL.revokeObjectURL(address)
}
</script>

<template>
  <ErrorMessage :wrong="wrong" />
  <SignInStatus :source="source" :label="label" :sign-in="signIn" />
  <section v-if="mailed" class="panel" aria-labelledby="mailed">
    <h2 id="mailed">Emailed code</h2>
    <p v-if="signIn.missing.length" class="missing">
      <v-icon :icon="mdiAlertOutline" size="18" aria-hidden="true" /> Missing:
      {{ signIn.missing.join(', ') }}.
    </p>
    <p>
      Users enter their email address on the sign-in page and get a code that is valid for ten minutes. Dravo
      sends codes only to addresses in the domains of this source. Unknown addresses get a code only if the
      source policy creates users.
    </p>
    <ChecklistValues :values="signIn.give" :warnings="signIn.warnings" />
    <h3>Setup checklist</h3>
    <ChecklistStatus :ticks="signIn.ticks" />
  </section>
  <div v-else class="two">
    <section class="panel" aria-labelledby="give">
      <h2 id="give">Values for the provider</h2>
      <ChecklistValues :values="signIn.give" :warnings="signIn.warnings">
        <template v-if="saml">
          <dt>Certificate</dt>
          <dd>
            <div v-for="each in signIn.certificates" :key="each.fingerprint" class="certificate">
              <StatusLabel :status="each.use" /> until <TimeLabel :at="each.until_at" />
              <v-btn size="small" variant="text" @click="hand(each.pem, `dravo-${source}.pem`)"
                >Download</v-btn
              >
              <div class="quiet mono small">{{ each.fingerprint }}</div>
            </div>
            <template v-if="may('sources.change')">
              <v-btn
                v-if="!signIn.certificates.some((each) => each.use === 'next')"
                size="small"
                variant="text"
                @click="keys('next')"
                >Create next key</v-btn
              >
              <v-btn v-else size="small" variant="text" @click="keys('use')">Activate next key</v-btn>
            </template>
          </dd>
        </template>
      </ChecklistValues>
      <div class="row">
        <v-btn
          variant="outlined"
          :prepend-icon="mdiFileDownloadOutline"
          @click="hand(signIn.text, `${source}-sign-in-checklist.txt`)"
          >Download as text</v-btn
        >
        <v-btn v-if="saml" variant="text" :href="signIn.give[0]!.value" target="_blank"
          >Service provider metadata</v-btn
        >
      </div>
      <h3>Steps at the provider</h3>
      <ul>
        <li v-for="line in signIn.provider_steps" :key="line">{{ line }}</li>
      </ul>
    </section>
    <section class="panel" aria-labelledby="get">
      <h2 id="get">Values from the provider</h2>
      <p v-if="signIn.missing.length" class="missing">
        <v-icon :icon="mdiAlertOutline" size="18" aria-hidden="true" /> Missing:
        {{ signIn.missing.join(', ') }}.
      </p>
      <p v-if="signIn.trouble" class="missing">
        <v-icon :icon="mdiAlertOutline" size="18" aria-hidden="true" /> {{ signIn.trouble }}
      </p>
      <form @submit.prevent="keepSettings">
        <template v-if="saml">
          <v-text-field
            v-model="settings.metadata_url"
            label="Metadata URL"
            placeholder="https://id.rootworks.example/metadata"
            spellcheck="false"
            class="mono"
            hint="Dravo fetches it daily."
            persistent-hint
          />
        </template>
        <template v-else>
          <v-text-field v-model="settings.issuer" label="Issuer" spellcheck="false" class="mono" />
          <v-text-field v-model="settings.client_id" label="Client ID" spellcheck="false" class="mono" />
          <v-text-field
            v-model="secret"
            :label="signIn.has_secret ? 'Client secret (saved)' : 'Client secret'"
            type="password"
            autocomplete="off"
          />
        </template>
        <BusyButton v-if="may('sources.change')" type="submit" color="primary" :busy="busy">{{
          saml ? 'Save and fetch' : 'Save and fetch configuration'
        }}</BusyButton>
        <span v-if="kept" role="status">{{ kept }}</span>
      </form>
      <template v-if="saml">
        <details>
          <summary>Or paste or upload the metadata</summary>
          <v-textarea v-model="metadata" label="Metadata" rows="4" class="mono" spellcheck="false" />
          <input
            type="file"
            accept=".xml,text/xml"
            aria-label="Metadata file"
            @change="drop(($event.target as HTMLInputElement).files)"
          />
          <v-btn variant="outlined" :disabled="!metadata.trim()" @click="keep({ metadata }, 'Saved.')"
            >Save metadata</v-btn
          >
        </details>
        <details>
          <summary>Or enter the values one by one</summary>
          <v-text-field v-model="fields.entity_id" label="Entity ID" class="mono" spellcheck="false" />
          <v-text-field v-model="fields.sign_in" label="Single sign-on URL" class="mono" spellcheck="false" />
          <v-textarea
            v-model="fields.certificates"
            label="Signing certificate (PEM, with or without header lines)"
            rows="3"
            class="mono"
            spellcheck="false"
          />
          <v-btn variant="outlined" @click="keepFields">Save values</v-btn>
        </details>
      </template>
      <dl v-if="signIn.provider.entity_id" class="known">
        <dt>{{ saml ? 'Entity ID' : 'Issuer' }}</dt>
        <dd class="mono">{{ signIn.provider.entity_id }}</dd>
        <dt>Single sign-on URL</dt>
        <dd class="mono">{{ signIn.provider.sign_in || 'unknown_user' }}</dd>
        <template v-for="each in signIn.provider.certificates" :key="each.fingerprint">
          <dt>Certificate</dt>
          <dd>
            {{ each.subject }}, until <TimeLabel :at="each.until_at" />
            <div class="quiet mono small">{{ each.fingerprint }}</div>
          </dd>
        </template>
      </dl>
      <div v-if="signIn.provider.waiting.length" class="waits">
        <h3>The metadata contains a new certificate</h3>
        <div v-for="each in signIn.provider.waiting" :key="each.fingerprint">
          {{ each.subject }}, until <TimeLabel :at="each.until_at" />
          <div class="quiet mono small">{{ each.fingerprint }}</div>
        </div>
        <v-btn v-if="may('sources.change')" size="small" variant="outlined" @click="takeOver">Accept</v-btn>
      </div>
      <h3>Setup checklist</h3>
      <ChecklistStatus :ticks="signIn.ticks" />
    </section>
  </div>
  <section class="panel more" aria-labelledby="more">
    <h2 id="more">Options</h2>
    <form @submit.prevent="keepSettings">
      <v-text-field
        v-if="mailed"
        v-model="settings.new_user_group"
        label="Group for new users"
        hint="Used only if the source policy creates users."
        persistent-hint
        class="wide"
      />
      <div class="row">
        <v-text-field
          v-if="!mailed"
          v-model.number="settings.clock_skew"
          type="number"
          label="Clock skew in seconds"
          class="narrow"
        />
        <v-text-field
          v-model.number="settings.claim_days"
          type="number"
          label="Days until memberships from claims expire (0: never)"
          class="narrow"
        />
        <v-text-field
          v-model.number="settings.inactive_days"
          type="number"
          label="Days without sign-in until a user becomes inactive (0: never)"
          class="narrow"
        />
        <v-text-field
          v-if="!mailed"
          v-model="settings.subject_claim"
          label="Subject claim"
          :placeholder="saml ? 'NameID' : 'sub'"
          persistent-placeholder
          class="narrow"
        />
      </div>
      <v-text-field
        v-model="settings.support_contact"
        label="Support contact for refused users"
        class="wide"
      />
      <v-switch
        v-if="!mailed"
        v-model="settings.import_groups"
        label="Read group memberships from claims"
        color="primary"
        hide-details
      />
      <v-text-field
        v-if="!mailed"
        v-model="settings.authn_context"
        :label="`Required authentication context (${saml ? 'AuthnContextClassRef' : 'acr'}, optional)`"
        class="mono"
        spellcheck="false"
      />
      <v-textarea
        v-if="!mailed"
        v-model="settings.ca"
        label="Certificate of the provider's own CA (PEM, optional)"
        rows="1"
        auto-grow
        max-rows="6"
        class="mono"
        spellcheck="false"
      />
      <v-switch
        v-model="settings.refresh"
        label="Refresh the user from the directory at each sign-in"
        color="primary"
        hide-details
      />
      <v-switch
        v-if="!mailed"
        v-model="settings.force_authn"
        label="Force authentication (ForceAuthn / prompt=login)"
        color="primary"
        hide-details
      />
      <template v-if="saml">
        <v-switch v-model="settings.sign_requests" label="Sign requests" color="primary" hide-details />
        <v-switch
          v-model="settings.allow_idp_initiated"
          label="Allow IdP-initiated sign-in"
          color="primary"
          hide-details
        />
        <v-switch
          v-model="settings.auto_accept_certificates"
          label="Accept new certificates from metadata automatically"
          color="primary"
          hide-details
        />
      </template>
      <template v-else-if="!mailed">
        <v-switch
          v-model="settings.userinfo"
          label="Request claims from the UserInfo endpoint"
          color="primary"
          hide-details
        />
        <v-switch
          v-model="settings.private_key_jwt"
          label="Authenticate with a private key (private_key_jwt)"
          color="primary"
          hide-details
        />
      </template>
      <BusyButton v-if="may('sources.change')" type="submit" variant="outlined" :busy="busy">Save</BusyButton>
    </form>
  </section>
</template>

<style scoped>
dl {
  display: grid;
  grid-template-columns: 130px 1fr;
  gap: 10px 14px;
  margin: 0;
}
dt {
  font-weight: 700;
  padding-top: 3px;
}
dd {
  margin: 0;
  min-width: 0;
  overflow-wrap: anywhere;
}
dd .quiet {
  font-size: 13px;
}
.small {
  font-size: 11px;
}
.known {
  margin-top: 14px;
}
.row {
  margin-top: 14px;
}
h3 {
  font-size: 15px;
  margin: 14px 0 2px;
}
ul {
  padding-left: 20px;
  margin: 0;
}
.missing {
  color: rgb(var(--v-theme-look));
  font-weight: 700;
}
details {
  margin-top: 10px;
}
summary {
  cursor: pointer;
  padding: 4px 0;
  margin-bottom: 8px;
}
.waits {
  border-left: 4px solid rgb(var(--v-theme-look));
  padding-left: 12px;
}
.more {
  margin-top: 12px;
}
form,
details {
  display: grid;
  gap: 8px;
}
form > .v-btn,
details > .v-btn {
  justify-self: start;
}
.wide {
  max-width: 640px;
}
</style>
