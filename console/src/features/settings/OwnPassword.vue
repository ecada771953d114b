<script setup lang="ts">
// The operator's own password.
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
  <v-btn variant="outlined" @click="ask">Change password</v-btn>
  <span v-if="changed" role="status">Your password is changed. Other sessions have ended.</span>
  <FormDialog
    v-model="asking"
    title="Change password"
    act="Change"
    :wrong="wrong"
    :busy="busy"
    @done="change"
  >
    <v-text-field
      v-model="present"
      type="password"
      label="Current password"
      autocomplete="current-password"
    />
    <v-text-field
      v-model="password"
      type="password"
      label="New password"
      hint="At least 12 characters. Your other sessions will end."
      persistent-hint
      autocomplete="new-password"
    />
    <v-switch
      v-model="revokeTokens"
      label="Also revoke my API tokens"
      hint="Programs that use them lose access."
      persistent-hint
    />
  </FormDialog>
</template>
