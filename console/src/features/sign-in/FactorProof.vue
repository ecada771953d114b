<script setup lang="ts">
// Asks for a second factor: a code of the app, a recovery code, or a passkey.
import { ref } from 'vue'
import type { Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { usePasskey } from '../../app/passkeys'
import BusyButton from '../../components/BusyButton.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'

const props = defineProps<{
  act: string
  /** Whether the owner has a passkey. */
  passkey: boolean
  ask: () => Promise<Schemas['PasskeyOffer']>
  send: (proof: Schemas['ProofRequest']) => Promise<unknown>
}>()
const emit = defineEmits<{ done: [] }>()
const code = ref('')
const { wrong, busy, attempt } = useAttempts()
async function give(proof: () => Promise<Schemas['ProofRequest']>): Promise<void> {
  if (await attempt(async () => props.send(await proof()))) {
    code.value = ''
    emit('done')
  }
}
const byPasskey = () =>
  give(async () => {
    const { challenge } = await props.ask()
    if (!challenge) throw new Error('You have no passkey that this browser can use.')
    return { code: '', passkey: await usePasskey(challenge) }
  })
</script>

<template>
  <form class="proof" @submit.prevent="give(async () => ({ code }))">
    <ErrorMessage :wrong="wrong" />
    <v-text-field
      v-model="code"
      label="Code from your app, or a recovery code"
      autocomplete="one-time-code"
      hide-details
    />
    <div class="row">
      <BusyButton type="submit" color="primary" :busy="busy" :disabled="!code.trim()">{{ act }}</BusyButton>
      <v-btn v-if="passkey" variant="outlined" @click="byPasskey">Use passkey</v-btn>
      <slot />
    </div>
  </form>
</template>

<style scoped>
.proof {
  display: grid;
  gap: 12px;
  max-width: 460px;
}
</style>
