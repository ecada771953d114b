<script setup lang="ts">
// The password and the second factor of a signed-in local user.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api } from '../../api/client'
import type { ChosenPassword } from '../../app/passwords'
import ErrorMessage from '../../components/ErrorMessage.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import SecondFactorPanel, { type FactorCalls } from '../sign-in/SecondFactorPanel.vue'
import NewPassword from './NewPassword.vue'

const yours = useQuery({
  queryKey: ['yours'],
  retry: false,
  queryFn: () => answered(api.GET('/api/v1/me/applications')),
})
const security = useQuery({
  queryKey: ['own-security'],
  retry: false,
  queryFn: () => answered(api.GET('/api/v1/me/security')),
})
const headers = computed(() => ({ 'X-Dravo-CSRF': yours.data.value?.csrf ?? '' }))
const present = ref('')
const changing = ref(false)
const changed = ref(false)
const change = (chosen: ChosenPassword) =>
  answered(
    api.PUT('/api/v1/me/password', {
      headers: headers.value,
      body: { present: present.value, ...chosen },
    }),
  )
function done(): void {
  changing.value = false
  changed.value = true
  present.value = ''
}
const calls: FactorCalls = {
  begin: () => answered(api.POST('/api/v1/me/second-factor', { headers: headers.value })),
  confirm: (code) =>
    answered(api.PUT('/api/v1/me/second-factor', { headers: headers.value, body: { code } })),
  disable: (body) => answered(api.POST('/api/v1/me/second-factor/disable', { headers: headers.value, body })),
  beginPasskey: () => answered(api.POST('/api/v1/me/passkeys/begin', { headers: headers.value })),
  addPasskey: (body) => answered(api.POST('/api/v1/me/passkeys', { headers: headers.value, body })),
  askPasskey: () => answered(api.POST('/api/v1/me/passkeys/ask', { headers: headers.value })),
  deletePasskey: (id, body) =>
    answered(
      api.POST('/api/v1/me/passkeys/{id}/delete', {
        headers: headers.value,
        params: { path: { id } },
        body,
      }),
    ),
  renewCodes: (body) => answered(api.POST('/api/v1/me/recovery-codes', { headers: headers.value, body })),
}
</script>

<template>
  <div class="page security">
    <div class="head">
      <div class="grow">
        <h1>Security</h1>
        <p v-if="yours.data.value" class="lead">{{ yours.data.value.name }}</p>
      </div>
      <v-btn variant="outlined" to="/your-applications">Your applications</v-btn>
    </div>
    <ErrorMessage :wrong="security.error.value" />
    <template v-if="security.data.value && yours.data.value">
      <p v-if="!security.data.value.has_password" class="panel">
        You sign in through an identity provider. Change your password and your second factor there.
      </p>
      <template v-else>
        <section class="panel" aria-labelledby="password">
          <div class="row between">
            <h2 id="password">Password</h2>
            <v-btn v-if="!changing" variant="outlined" @click="((changing = true), (changed = false))"
              >Change password</v-btn
            >
          </div>
          <p v-if="changed" role="status">Your password is changed. Your other sessions have ended.</p>
          <p v-else class="quiet">
            Last changed: <TimeLabel :at="security.data.value.password_changed_at" />
          </p>
          <NewPassword v-if="changing" act="Change" class="form" :send="change" @done="done">
            <v-text-field
              v-model="present"
              label="Current password"
              type="password"
              autocomplete="current-password"
            />
          </NewPassword>
        </section>
        <SecondFactorPanel
          v-if="security.data.value.second_factor"
          :factor="security.data.value.second_factor"
          :calls="calls"
        />
      </template>
    </template>
  </div>
</template>

<style scoped>
.security {
  max-width: 760px;
}
.form {
  max-width: 460px;
}
.between {
  justify-content: space-between;
}
</style>
