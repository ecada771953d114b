<script setup lang="ts">
import { ref } from 'vue'
import { useQuery } from '@tanstack/vue-query'
import { useRoute, useRouter } from 'vue-router'
import { answered, api, ApiProblem, type Schemas } from '../../api/client'
import BusyButton from '../../components/BusyButton.vue'
import EmailCodeForm from './EmailCodeForm.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import { signIn } from '../../app/session'
import { usePasskey } from '../../app/passkeys'
import PasswordForm from '../local-users/PasswordForm.vue'

const route = useRoute()
const router = useRouter()
// Only paths within the console, so that the URL cannot lead to another site.
const wanted = String(route.query.to ?? '/')
const to = wanted.startsWith('/') && !wanted.startsWith('//') ? wanted : '/'
const name = ref('')
const password = ref('')
const code = ref('')
const needsCode = ref(false)
const wrong = ref<unknown>(null)
const busy = ref(false)

const where = useQuery({
  queryKey: ['sign-in'],
  queryFn: () => answered(api.GET('/api/v1/sign-in', { params: { query: {} } })),
})
const email = ref('')
const nowhere = ref(false)
const choices = ref<Schemas['SignInChoice'][]>([])
/** The code that was emailed to the address, if it signs in by code. */
const asked = ref<Schemas['CodeSent'] | null>(null)
/** Whether the user signs in with a password of Dravo, alone or as one of several choices. */
const byPassword = ref(false)
const offersPassword = ref(false)
/** The domain of the email address decides where the user signs in. */
async function find(): Promise<void> {
  nowhere.value = offersPassword.value = false
  choices.value = []
  wrong.value = null
  if (sign_in_test) return ask()
  try {
    const found = await answered(api.GET('/api/v1/sign-in', { params: { query: { email: email.value } } }))
    const one = found.source
      ? [{ ...found.source, start: found.start, by_code: found.by_code }]
      : found.choices
    if (found.by_password && !one.length) byPassword.value = true
    else if (found.by_password || found.choices.length) {
      choices.value = one
      offersPassword.value = found.by_password
    } else if (found.by_code) await ask()
    else if (found.source) location.assign(found.start)
    else nowhere.value = true
  } catch (problem) {
    wrong.value = problem
  }
}
/** The secret in the link of a test sign-in with a code. */
const sign_in_test = typeof route.query.sign_in_test === 'string' ? route.query.sign_in_test : undefined
async function ask(source?: string): Promise<void> {
  try {
    asked.value = await answered(
      api.POST('/api/v1/sign-in/code', { body: { email: email.value, sign_in_test, source } }),
    )
  } catch (problem) {
    wrong.value = problem
  }
}

async function enter(): Promise<void> {
  busy.value = true
  wrong.value = null
  try {
    await signIn(name.value, password.value, { code: code.value })
    await router.push(to)
  } catch (problem) {
    // Name and password are correct: only the second factor is missing.
    if (problem instanceof ApiProblem && problem.problem.code === 'second_factor_needed') {
      needsCode.value = true
      await offerPasskey()
    } else wrong.value = problem
  } finally {
    busy.value = false
  }
}
/** The challenge for the operator's passkeys, or null. */
const challenge = ref<Schemas['PasskeyChallenge'] | null>(null)
async function offerPasskey(): Promise<void> {
  const body = { name: name.value, password: password.value }
  challenge.value = (await answered(api.POST('/api/v1/session/passkey', { body }))).challenge
}
async function enterByPasskey(): Promise<void> {
  if (!challenge.value) return
  busy.value = true
  wrong.value = null
  try {
    const passkey = await usePasskey(challenge.value)
    await signIn(name.value, password.value, { code: '', passkey })
    await router.push(to)
  } catch (problem) {
    wrong.value = problem
    // A challenge can be answered once.
    await offerPasskey()
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <div class="enter">
    <svg class="river" viewBox="0 0 800 120" preserveAspectRatio="none" aria-hidden="true">
      <path d="M0 40c130 0 130 40 270 40s130-50 270-50 130 30 260 30" />
      <path d="M0 66c130 0 130 34 270 34s130-44 270-44 130 26 260 26" />
    </svg>
    <div class="panel form">
      <div>
        <h1>Dravo</h1>
        <p class="lead">User provisioning and access to applications.</p>
      </div>
      <ErrorMessage :wrong="wrong" />
      <EmailCodeForm v-if="asked" :asked="asked" :email="email" @again="asked = null" />
      <PasswordForm v-else-if="byPassword" :name="email.trim()" @again="byPassword = false" />
      <form
        v-else-if="where.data.value?.any || sign_in_test"
        class="users"
        aria-label="User sign-in"
        @submit.prevent="find"
      >
        <p v-if="sign_in_test">This is a test sign-in. Enter the email address of the invited user.</p>
        <v-text-field v-model="email" label="Email address or user name" autocomplete="username" />
        <v-btn type="submit" color="primary" :disabled="!email.trim()">Continue</v-btn>
        <div
          v-if="choices.length || offersPassword"
          class="choices"
          role="group"
          aria-label="Choose how to sign in"
        >
          <p>Choose how to sign in:</p>
          <template v-for="each in choices" :key="each.key">
            <v-btn v-if="each.by_code" variant="outlined" @click="ask(each.key)"
              >{{ each.label }}: emailed code</v-btn
            >
            <v-btn v-else variant="outlined" :href="each.start">{{ each.label }}</v-btn>
          </template>
          <v-btn v-if="offersPassword" variant="outlined" @click="byPassword = true">Password</v-btn>
        </div>
        <p v-if="nowhere" role="status">No sign-in is set up for this address. Check the spelling.</p>
      </form>
      <form
        v-if="!asked && !byPassword && !sign_in_test"
        aria-label="Operator sign-in"
        @submit.prevent="enter"
      >
        <h2 v-if="where.data.value?.any">Operator sign-in</h2>
        <v-text-field v-model="name" label="Name" autocomplete="username" required />
        <v-text-field
          v-model="password"
          label="Password"
          type="password"
          autocomplete="current-password"
          required
        />
        <v-text-field
          v-if="needsCode"
          v-model="code"
          label="Code from your app, or a recovery code"
          autocomplete="one-time-code"
          autofocus
        />
        <v-btn v-if="challenge" variant="outlined" @click="enterByPasskey">Use passkey</v-btn>
        <BusyButton
          type="submit"
          :variant="where.data.value?.any ? 'outlined' : 'flat'"
          color="primary"
          :busy="busy"
          >Sign in</BusyButton
        >
        <v-btn
          v-for="each in where.data.value?.for_operators"
          :key="each.key"
          variant="text"
          color="primary"
          :href="`/sso/${each.key}/start?back=${encodeURIComponent(to)}`"
          >Sign in with {{ each.label }}</v-btn
        >
      </form>
    </div>
  </div>
</template>

<style scoped>
.enter {
  position: relative;
  min-height: 100vh;
  display: grid;
  place-items: center;
  padding: 20px;
}
.panel {
  position: relative;
  width: 380px;
  max-width: 100%;
  padding: 28px;
}
h1 {
  font-size: 28px;
  margin: 0;
  color: rgb(var(--v-theme-primary));
}
.enter form {
  display: grid;
  gap: 14px;
}
.choices {
  display: grid;
  gap: 10px;
}
.enter form .v-btn {
  justify-self: start;
}
.users {
  padding-bottom: 18px;
  margin-bottom: 16px;
  border-bottom: 1px solid rgb(var(--v-theme-line));
}
h2 {
  font-size: 16px;
  margin: 0 0 10px;
}
.river {
  position: absolute;
  inset: auto 0 12%;
  width: 100%;
  height: 190px;
  fill: none;
  stroke: rgb(var(--v-theme-primary));
  stroke-width: 10;
  opacity: 0.18;
}
</style>
