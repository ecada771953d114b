<script setup lang="ts">
// The options of a sign-in: how users are found, what is asked of the provider, and when memberships expire.
import { useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useMay } from '../../app/session'
import BusyButton from '../../components/BusyButton.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'

const props = defineProps<{ source: string; signIn: Schemas['SignIn'] }>()
const may = useMay()
const queries = useQueryClient()
const { wrong, busy, attempt } = useAttempts()
const saml = computed(() => props.signIn.protocol === 'saml')
const mailed = computed(() => props.signIn.protocol === 'email_code')
/** Values of the provider have a form of their own. */
const OF_THE_PROVIDER = ['metadata_url', 'issuer', 'client_id']
interface Settings {
  [name: string]: string | boolean | number
}
const settings = ref<Settings>(
  Object.fromEntries(
    Object.entries(props.signIn.settings as Settings).filter(([name]) => !OF_THE_PROVIDER.includes(name)),
  ),
)
const bindings = [
  { title: 'HTTP-Redirect, or HTTP-POST where only that is offered', value: '' },
  { title: 'HTTP-Redirect', value: 'redirect' },
  { title: 'HTTP-POST', value: 'post' },
]
const saved = ref(false)
const save = () =>
  attempt(async () => {
    saved.value = false
    const body = { settings: { ...settings.value } }
    await answered(
      api.PUT('/api/v1/sources/{key}/sign-in', { params: { path: { key: props.source } }, body }),
    )
    await queries.invalidateQueries()
    saved.value = true
  })
</script>

<template>
  <section class="panel more" aria-labelledby="more">
    <h2 id="more">Options</h2>
    <ErrorMessage :wrong="wrong" />
    <form @submit.prevent="save">
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
          label="Inactive after days without sign-in (0: never)"
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
      <template v-if="!mailed">
        <v-switch
          v-model="settings.single_logout"
          label="Sign users out at the provider too (single logout)"
          color="primary"
          hide-details
        />
        <v-text-field
          v-if="settings.single_logout"
          v-model="settings.logout_url"
          label="Logout URL of the provider (optional)"
          :placeholder="signIn.provider.sign_out || 'The provider publishes none'"
          persistent-placeholder
          class="mono wide"
          spellcheck="false"
        />
      </template>
      <template v-if="saml">
        <v-select
          v-model="settings.request_binding"
          :items="bindings"
          label="Binding of requests"
          class="wide"
        />
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
      <div v-if="may('sources.change')" class="row">
        <BusyButton type="submit" variant="outlined" :busy="busy">Save</BusyButton>
        <span v-if="saved" role="status">Saved.</span>
      </div>
    </form>
  </section>
</template>

<style scoped>
.more {
  margin-top: 12px;
}
form {
  display: grid;
  gap: 8px;
}
.row {
  margin-top: 14px;
}
.wide {
  max-width: 640px;
}
</style>
