<script setup lang="ts">
// The page of a password reset's link.
import { ref } from 'vue'
import { answered, api } from '../../api/client'
import type { ChosenPassword } from '../../app/passwords'
import NewPassword from './NewPassword.vue'
import OpenPage from './OpenPage.vue'

const secret = location.hash.slice(1)
const done = ref(false)
const reset = (chosen: ChosenPassword) =>
  answered(api.POST('/api/v1/sign-in/password/reset', { body: { secret, ...chosen } }))
</script>

<template>
  <OpenPage title="Choose a new password">
    <template v-if="done">
      <p role="status">Your password is changed. Your sessions have ended.</p>
      <v-btn color="primary" to="/sign-in">Sign in</v-btn>
    </template>
    <NewPassword v-else act="Save" :send="reset" @done="done = true" />
  </OpenPage>
</template>
