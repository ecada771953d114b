<script setup lang="ts">
// Signs a local user in: password, then the second factor, then a new password in place of a one-time password.
import { ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import type { ChosenPassword } from '../../app/passwords'
import { useAttempts } from '../../app/actions'
import BusyButton from '../../components/BusyButton.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import FactorProof from '../sign-in/FactorProof.vue'
import NewPassword from './NewPassword.vue'

const props = defineProps<{ name: string }>()
const emit = defineEmits<{ again: [] }>()
const password = ref('')
const step = ref<Schemas['PasswordSignIn'] | null>(null)
const forgotten = ref(false)
const { wrong, busy, attempt } = useAttempts()
function goOn(next: Schemas['PasswordSignIn']): void {
  if (next.outcome === 'signed_in') location.assign('/your-applications')
  else step.value = next
}
const enter = () =>
  attempt(async () => {
    const body = { name: props.name, password: password.value }
    goOn(await answered(api.POST('/api/v1/sign-in/password', { body })))
  })
const state = () => step.value?.state ?? ''
const prove = async (proof: Schemas['ProofRequest']) =>
  goOn(await answered(api.POST('/api/v1/sign-in/password/factor', { body: { state: state(), ...proof } })))
const ask = () => answered(api.POST('/api/v1/sign-in/password/passkey', { body: { state: state() } }))
const choose = async (chosen: ChosenPassword) =>
  goOn(await answered(api.POST('/api/v1/sign-in/password/new', { body: { state: state(), ...chosen } })))
const forget = () =>
  attempt(async () => {
    await answered(api.POST('/api/v1/sign-in/password/forgotten', { body: { email: props.name } }))
    forgotten.value = true
  })
</script>

<template>
  <div class="steps">
    <template v-if="step?.outcome === 'second_factor'">
      <h2>Second factor</h2>
      <FactorProof act="Sign in" :passkey="step.passkey" :ask="ask" :send="prove">
        <v-btn variant="text" @click="emit('again')">Start over</v-btn>
      </FactorProof>
    </template>
    <template v-else-if="step?.outcome === 'new_password'">
      <h2>Choose your password</h2>
      <p>Your one-time password worked. Choose a password of your own to continue.</p>
      <NewPassword act="Sign in" :send="choose" />
    </template>
    <div v-else-if="forgotten" role="status" class="steps">
      <h2>Check your email</h2>
      <p>If {{ name }} belongs to a user here, we have sent a link to choose a new password.</p>
      <v-btn variant="text" @click="emit('again')">Start over</v-btn>
    </div>
    <form v-else class="steps" aria-label="Password sign-in" @submit.prevent="enter">
      <ErrorMessage :wrong="wrong" />
      <p>
        Sign in as <strong>{{ name }}</strong>
      </p>
      <v-text-field
        v-model="password"
        label="Password"
        type="password"
        autocomplete="current-password"
        autofocus
      />
      <div class="row">
        <BusyButton type="submit" color="primary" :busy="busy" :disabled="!password">Sign in</BusyButton>
        <v-btn variant="text" @click="emit('again')">Back</v-btn>
        <v-btn v-if="name.includes('@')" variant="text" @click="forget">Forgot password</v-btn>
      </div>
    </form>
  </div>
</template>

<style scoped>
.steps {
  display: grid;
  gap: 12px;
}
h2 {
  font-size: 18px;
  margin: 0;
}
p {
  margin: 0;
}
</style>
