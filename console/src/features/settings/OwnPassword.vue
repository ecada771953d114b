<script setup lang="ts">
// One's own password, changed by whoever knows it.
import { ref } from 'vue'
import { answered, api } from '../../api/client'
import { useAttempts } from '../../app/actions'
import FormDialog from '../../components/FormDialog.vue'

const { wrong, busy, attempt } = useAttempts()
const asking = ref(false)
const changed = ref(false)
const present = ref('')
const password = ref('')
const revokeTokens = ref(false)
function ask(): void {
  present.value = password.value = ''
  revokeTokens.value = false
  wrong.value = null
  changed.value = false
  asking.value = true
}
async function change(): Promise<void> {
  const body = { present: present.value, password: password.value, revoke_tokens: revokeTokens.value }
  if (await attempt(() => answered(api.PUT('/api/v1/session/password', { body })))) {
    asking.value = false
    changed.value = true
  }
}
</script>

<template>
  <v-btn variant="outlined" @click="ask">Change my password</v-btn>
  <span v-if="changed" role="status">Your password is changed; elsewhere you sign in anew.</span>
  <FormDialog v-model="asking" title="Change your password" act="Change it" :wrong="wrong" :busy="busy" @done="change">
    <v-text-field v-model="present" type="password" label="Present password" autocomplete="current-password" />
    <v-text-field
      v-model="password"
      type="password"
      label="New password"
      hint="12 characters or more. Wherever else you are signed in, you sign in anew."
      persistent-hint
      autocomplete="new-password"
    />
    <v-switch
      v-model="revokeTokens"
      label="Revoke my API tokens too"
      hint="Programs that use them stop."
      persistent-hint
    />
  </FormDialog>
</template>
