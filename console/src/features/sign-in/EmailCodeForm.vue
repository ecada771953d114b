<script setup lang="ts">
// Takes an emailed code in the browser that requested it; a new user enters a name.
import { ref } from 'vue'
import { answered, api, ApiProblem, type Schemas } from '../../api/client'
import BusyButton from '../../components/BusyButton.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'

const props = defineProps<{ asked: Schemas['CodeSent']; email: string }>()
const emit = defineEmits<{ again: [] }>()
const code = ref('')
const given = ref('')
const family = ref('')
const isNew = ref(false)
const busy = ref(false)
const wrong = ref<unknown>(null)
const came = ref<Schemas['CodeResult'] | null>(null)
async function give(): Promise<void> {
  busy.value = true
  wrong.value = null
  try {
    const body = {
      state: props.asked.state,
      code: code.value,
      given_name: given.value,
      family_name: family.value,
    }
    came.value = await answered(api.POST('/api/v1/sign-in/code/verify', { body }))
    if (came.value.outcome === 'signed_in') location.assign(came.value.back)
  } catch (problem) {
    // The code is correct and the user is new: only the names are missing.
    if (problem instanceof ApiProblem && problem.problem.code === 'names_needed') isNew.value = true
    else wrong.value = problem
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <div v-if="came && came.outcome !== 'signed_in'" role="status" class="told">
    <h2>{{ came.outcome === 'observed' ? 'Test sign-in succeeded' : 'You are not signed in' }}</h2>
    <p v-if="came.outcome === 'observed'">Nothing was changed. You can close this page.</p>
    <template v-else>
      <p>{{ came.message }}</p>
      <p v-if="came.support_contact">{{ came.support_contact }}</p>
    </template>
    <p class="quiet">
      Reference for support: <span class="mono">{{ came.trace }}</span>
    </p>
    <v-btn variant="text" @click="emit('again')">Start over</v-btn>
  </div>
  <form v-else aria-label="Emailed code" @submit.prevent="give">
    <h2>Check your email</h2>
    <p>
      If {{ email }} can sign in here, we have sent a code to it. The code is valid for
      {{ asked.minutes }} minutes in this browser.
    </p>
    <ErrorMessage :wrong="wrong" />
    <v-text-field
      v-model="code"
      label="Code"
      autocomplete="one-time-code"
      inputmode="numeric"
      autofocus
      class="mono"
    />
    <template v-if="isNew">
      <p role="status">The code is correct. Enter your name to create your user.</p>
      <v-text-field v-model="given" label="Given name" autocomplete="given-name" />
      <v-text-field v-model="family" label="Family name" autocomplete="family-name" />
    </template>
    <div class="row">
      <BusyButton type="submit" color="primary" :busy="busy" :disabled="!code.trim()">Sign in</BusyButton>
      <v-btn variant="text" @click="emit('again')">Send a new code</v-btn>
    </div>
  </form>
</template>

<style scoped>
h2 {
  font-size: 18px;
  margin: 0 0 4px;
}
form {
  display: grid;
  gap: 12px;
}
p {
  margin: 0;
}
.told {
  display: grid;
  gap: 10px;
  justify-items: start;
}
</style>
