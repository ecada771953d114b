<script setup lang="ts">
// A form in which a user chooses a password; a weak one can be confirmed where that is allowed.
import { ref } from 'vue'
import { ApiProblem } from '../../api/client'
import type { ChosenPassword } from '../../app/passwords'
import { useAttempts } from '../../app/actions'
import BusyButton from '../../components/BusyButton.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'

const props = defineProps<{
  act: string
  least?: number
  send: (chosen: ChosenPassword) => Promise<unknown>
}>()
const emit = defineEmits<{ done: [] }>()
const password = ref('')
const shown = ref(false)
const weak = ref(false)
const confirmed = ref(false)
const { wrong, busy, attempt } = useAttempts()
async function choose(): Promise<void> {
  const chosen = { password: password.value, confirm_weak: confirmed.value }
  if (await attempt(() => props.send(chosen))) emit('done')
  else {
    const problem = wrong.value instanceof ApiProblem ? wrong.value.problem : null
    weak.value = problem?.code === 'weak_password' && problem.hint?.includes('confirm') === true
  }
}
</script>

<template>
  <form class="choose" @submit.prevent="choose">
    <ErrorMessage :wrong="wrong" />
    <slot />
    <v-text-field
      v-model="password"
      label="New password"
      :type="shown ? 'text' : 'password'"
      autocomplete="new-password"
      :hint="`At least ${least ?? 12} characters. Several words are easy to remember.`"
      persistent-hint
    />
    <v-checkbox v-model="shown" label="Show the password" density="compact" hide-details />
    <v-checkbox
      v-if="weak"
      v-model="confirmed"
      label="Use this weak password"
      density="compact"
      hide-details
    />
    <BusyButton type="submit" color="primary" :busy="busy" :disabled="!password">{{ act }}</BusyButton>
  </form>
</template>

<style scoped>
.choose {
  display: grid;
  gap: 12px;
}
.choose > .v-btn {
  justify-self: start;
}
</style>
