<script setup lang="ts">
// The values that the provider gives: by its address, its metadata, or one by one; tested before they are saved.
import { mdiAlertOutline } from '@mdi/js'
import { useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useMay } from '../../app/session'
import BusyButton from '../../components/BusyButton.vue'
import ChecklistStatus from '../../components/ChecklistStatus.vue'
import CheckSteps from '../../components/CheckSteps.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ source: string; signIn: Schemas['SignIn'] }>()
const may = useMay()
const queries = useQueryClient()
const params = { path: { key: props.source } }
const { wrong, busy, attempt } = useAttempts()
const saml = computed(() => props.signIn.protocol === 'saml')
const known = computed(() => props.signIn.provider)
const byHand = computed(() => known.value.learned_from === 'fields')
const given = (name: string) => String((props.signIn.settings as Record<string, unknown>)[name] ?? '')
const metadataUrl = ref(given('metadata_url'))
const issuer = ref(given('issuer'))
const clientId = ref(given('client_id'))
const secret = ref('')
const metadata = ref('')
const fields = ref({
  entity_id: known.value.entity_id,
  sign_in: known.value.sign_in,
  certificates: '',
  authorization_endpoint: known.value.authorization_endpoint,
  token_endpoint: known.value.token_endpoint,
  userinfo_endpoint: known.value.userinfo_endpoint,
  jwks_uri: known.value.jwks_uri,
  jwks: '',
})
type Values = Schemas['SignInSettingsRequest']
/** How the values are given. */
type Way = 'address' | 'metadata' | 'fields'

/** The way of the form at the top. */
const way = computed<Way>(() => (byHand.value && !saml.value ? 'fields' : 'address'))

function body(way: Way): Values {
  const settings: Record<string, string> = saml.value
    ? { metadata_url: metadataUrl.value }
    : { issuer: issuer.value, client_id: clientId.value }
  const more = secret.value ? { secret: secret.value } : {}
  if (way === 'address') return { settings, ...more, look: true } as Values
  if (way === 'metadata') return { metadata: metadata.value } as Values
  const { entity_id, sign_in, certificates, jwks, ...endpoints } = fields.value
  if (saml.value)
    return {
      fields: { entity_id, sign_in, ...(certificates.trim() ? { certificates } : {}) },
    } as Values
  return { settings, ...more, fields: { ...endpoints, ...(jwks.trim() ? { jwks } : {}) } } as Values
}
const saved = ref(false)
const check = ref<Schemas['SignInCheck'] | null>(null)
const checked = ref<Way | null>(null)
const save = (way: Way) =>
  attempt(async () => {
    saved.value = false
    await answered(api.PUT('/api/v1/sources/{key}/sign-in', { params, body: body(way) }))
    check.value = null
    metadata.value = secret.value = fields.value.certificates = fields.value.jwks = ''
    await queries.invalidateQueries()
    saved.value = true
  })
const test = (way: Way) =>
  attempt(async () => {
    saved.value = false
    checked.value = way
    check.value = await answered(api.POST('/api/v1/sources/{key}/sign-in/check', { params, body: body(way) }))
  })
async function drop(files: FileList | null): Promise<void> {
  if (files?.[0]) metadata.value = await files[0].text()
}
const takeOver = () =>
  attempt(async () => {
    await answered(api.POST('/api/v1/sources/{key}/sign-in/certificates', { params }))
    await queries.invalidateQueries()
  })
</script>

<template>
  <section class="panel" aria-labelledby="get">
    <h2 id="get">Values from the provider</h2>
    <ErrorMessage :wrong="wrong" />
    <p v-if="signIn.missing.length" class="missing">
      <v-icon :icon="mdiAlertOutline" size="18" aria-hidden="true" /> Missing:
      {{ signIn.missing.join(', ') }}.
    </p>
    <p v-if="signIn.trouble" class="missing">
      <v-icon :icon="mdiAlertOutline" size="18" aria-hidden="true" /> {{ signIn.trouble }}
    </p>
    <form @submit.prevent="save(way)">
      <v-text-field
        v-if="saml"
        v-model="metadataUrl"
        label="Metadata URL"
        placeholder="https://id.rootworks.example/metadata"
        spellcheck="false"
        class="mono"
        hint="Dravo fetches it daily."
        persistent-hint
      />
      <template v-else>
        <v-text-field v-model="issuer" label="Issuer" spellcheck="false" class="mono" />
        <v-text-field v-model="clientId" label="Client ID" spellcheck="false" class="mono" />
        <v-text-field
          v-model="secret"
          :label="signIn.has_secret ? 'Client secret (saved)' : 'Client secret'"
          type="password"
          autocomplete="off"
        />
      </template>
      <div v-if="may('sources.change')" class="row">
        <BusyButton type="submit" color="primary" :busy="busy">{{
          saml ? 'Save and fetch' : byHand ? 'Save' : 'Save and fetch configuration'
        }}</BusyButton>
        <v-btn variant="outlined" :disabled="busy" @click="test(way)">Test</v-btn>
        <span v-if="saved" role="status">Saved.</span>
      </div>
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
        <div class="row">
          <v-btn variant="outlined" :disabled="!metadata.trim() || busy" @click="save('metadata')"
            >Save metadata</v-btn
          >
          <v-btn variant="outlined" :disabled="!metadata.trim() || busy" @click="test('metadata')"
            >Test metadata</v-btn
          >
        </div>
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
        <div class="row">
          <v-btn variant="outlined" :disabled="busy" @click="save('fields')">Save values</v-btn>
          <v-btn variant="outlined" :disabled="busy" @click="test('fields')">Test values</v-btn>
        </div>
      </details>
    </template>
    <details v-else :open="byHand">
      <summary>Or enter the endpoints and keys, for a provider without discovery</summary>
      <v-text-field
        v-model="fields.authorization_endpoint"
        label="Authorization endpoint"
        class="mono"
        spellcheck="false"
      />
      <v-text-field v-model="fields.token_endpoint" label="Token endpoint" class="mono" spellcheck="false" />
      <v-text-field
        v-model="fields.userinfo_endpoint"
        label="UserInfo endpoint (optional)"
        class="mono"
        spellcheck="false"
      />
      <v-text-field
        v-model="fields.jwks_uri"
        label="URL of the keys (jwks_uri)"
        class="mono"
        spellcheck="false"
      />
      <v-textarea
        v-model="fields.jwks"
        label="Or the keys themselves (JWK set)"
        rows="3"
        class="mono"
        spellcheck="false"
      />
      <div class="row">
        <v-btn variant="outlined" :disabled="busy" @click="save('fields')">Save values</v-btn>
        <v-btn variant="outlined" :disabled="busy" @click="test('fields')">Test values</v-btn>
        <v-btn v-if="byHand" variant="text" :disabled="busy" @click="save('address')">Use discovery</v-btn>
      </div>
    </details>
    <div v-if="check" class="tested">
      <h3>
        {{
          checked === 'address'
            ? 'Test of the address'
            : checked === 'metadata'
              ? 'Test of the metadata'
              : 'Test of the values'
        }}
      </h3>
      <CheckSteps :check="check" />
      <p class="quiet">Nothing was saved.</p>
    </div>
    <dl v-if="known.entity_id" class="known">
      <dt>{{ saml ? 'Entity ID' : 'Issuer' }}</dt>
      <dd class="mono">{{ known.entity_id }}</dd>
      <dt>{{ saml ? 'Single sign-on URL' : 'Authorization endpoint' }}</dt>
      <dd class="mono">{{ known.sign_in || 'not known yet' }}</dd>
      <template v-if="!saml">
        <dt>Keys</dt>
        <dd>{{ known.keys }} {{ known.jwks_uri ? `from ${known.jwks_uri}` : 'as entered' }}</dd>
      </template>
      <template v-for="each in known.certificates" :key="each.fingerprint">
        <dt>Certificate</dt>
        <dd>
          {{ each.subject }}, until <TimeLabel :at="each.until_at" />
          <div class="quiet mono small">{{ each.fingerprint }}</div>
        </dd>
      </template>
    </dl>
    <div v-if="known.waiting.length" class="waits">
      <h3>The metadata contains a new certificate</h3>
      <div v-for="each in known.waiting" :key="each.fingerprint">
        {{ each.subject }}, until <TimeLabel :at="each.until_at" />
        <div class="quiet mono small">{{ each.fingerprint }}</div>
      </div>
      <v-btn v-if="may('sources.change')" size="small" variant="outlined" @click="takeOver">Accept</v-btn>
    </div>
    <h3>Setup checklist</h3>
    <ChecklistStatus :ticks="signIn.ticks" />
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
form,
details {
  display: grid;
  gap: 8px;
}
.tested {
  margin-top: 14px;
}
</style>
