<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import BusyButton from '../components/BusyButton.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { signIn } from '../app/session'

const route = useRoute()
const router = useRouter()
const name = ref('')
const password = ref('')
const wrong = ref<unknown>(null)
const busy = ref(false)

async function enter(): Promise<void> {
  busy.value = true
  wrong.value = null
  try {
    await signIn(name.value, password.value)
    const to = String(route.query.to ?? '/')
    // Only ways within the console: no other place can be put into the address.
    await router.push(to.startsWith('/') && !to.startsWith('//') ? to : '/')
  } catch (problem) {
    wrong.value = problem
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
    <form class="panel form" @submit.prevent="enter">
      <div>
        <h1>Dravo</h1>
        <p class="lead">Who may use which application, in which role, and why.</p>
      </div>
      <ProblemNote :wrong="wrong" />
      <v-text-field v-model="name" label="Name" autocomplete="username" required />
      <v-text-field v-model="password" label="Password" type="password" autocomplete="current-password" required />
      <BusyButton type="submit" color="primary" :busy="busy">Sign in</BusyButton>
    </form>
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
