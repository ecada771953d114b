<script setup lang="ts">
// Sets up a required second factor before anything else.
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import SecondFactorSetup from '../settings/SecondFactorSetup.vue'
import { askAgain, signOut } from '../../app/session'

const router = useRouter()
const done = ref(false)
async function goOn(): Promise<void> {
  await askAgain()
  await router.push('/')
}
async function leave(): Promise<void> {
  if (await signOut()) return
  await router.push('/sign-in')
}
</script>

<template>
  <div class="page narrow-page">
    <div class="head">
      <div class="grow">
        <h1>Set up your second factor</h1>
        <p class="lead">A second factor is required for all operators. Set it up to continue.</p>
      </div>
      <v-btn variant="text" @click="leave">Sign out</v-btn>
    </div>
    <SecondFactorSetup @on="done = true" />
    <v-btn v-if="done" color="primary" class="on" @click="goOn">I have saved the codes, continue</v-btn>
  </div>
</template>

<style scoped>
.narrow-page {
  max-width: 760px;
}
.on {
  margin-top: 14px;
}
</style>
