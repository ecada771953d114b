<script setup lang="ts">
// The applications of a signed-in user, with the support contact.
import { mdiOpenInNew } from '@mdi/js'
import { useQuery } from '@tanstack/vue-query'
import { ref } from 'vue'
import { answered, api, ApiProblem } from '../../api/client'
import ApplicationIcon from '../../components/ApplicationIcon.vue'
import EmptyState from '../../components/EmptyState.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import RequestAccess from './RequestAccess.vue'

const out = ref(false)
const yours = useQuery({
  queryKey: ['yours'],
  retry: false,
  refetchInterval: 5000,
  queryFn: () => answered(api.GET('/api/v1/me/applications')),
})
const wrong = ref<unknown>(null)
const isOut = () => out.value || (yours.error.value instanceof ApiProblem && yours.error.value.status === 401)
async function leave(): Promise<void> {
  try {
    const headers = { 'X-Dravo-CSRF': yours.data.value!.csrf }
    const { go_to: onward } = await answered(api.DELETE('/api/v1/me/session', { headers }))
    if (onward) location.assign(onward)
    else out.value = true
  } catch (problem) {
    wrong.value = problem
  }
}
</script>

<template>
  <div class="page yours">
    <template v-if="isOut()">
      <h1>You are signed out</h1>
      <p class="lead">
        You may still be signed in at your identity provider. On a shared computer, sign out there too.
      </p>
      <v-btn color="primary" to="/sign-in">Sign in again</v-btn>
    </template>
    <template v-else-if="yours.data.value">
      <div class="head">
        <div class="grow">
          <h1>Your applications</h1>
          <p class="lead">{{ yours.data.value.name }}, signed in with {{ yours.data.value.source }}</p>
        </div>
        <v-btn v-if="yours.data.value.has_password" variant="text" to="/your-applications/security"
          >Security</v-btn
        >
        <v-btn variant="outlined" @click="leave">Sign out</v-btn>
      </div>
      <ErrorMessage :wrong="wrong" />
      <ul v-if="yours.data.value.applications.length" class="list">
        <li v-for="each in yours.data.value.applications" :key="each.key" class="panel">
          <ApplicationIcon :application="each" :size="44" own />
          <div class="grow">
            <h2>{{ each.label }}</h2>
            <div>{{ each.roles.join(', ') }}</div>
            <div class="quiet">since <TimeLabel :at="each.since" /></div>
          </div>
          <v-btn
            v-if="each.address"
            color="primary"
            :href="each.address"
            target="_blank"
            rel="noopener noreferrer"
            :append-icon="mdiOpenInNew"
            >Open<span class="visually-hidden"> {{ each.label }}</span></v-btn
          >
        </li>
      </ul>
      <div v-else class="panel">
        <EmptyState title="No applications yet">
          You are signed in, but no application is assigned to you.
          {{ yours.data.value.support_contact || 'Contact the user who invited you.' }}
        </EmptyState>
      </div>
      <RequestAccess :csrf="yours.data.value.csrf" />
      <p v-if="yours.data.value.applications.length && yours.data.value.support_contact" class="quiet ask">
        Is an application missing? {{ yours.data.value.support_contact }}
      </p>
    </template>
    <ErrorMessage v-else :wrong="yours.error.value" />
  </div>
</template>

<style scoped>
.yours {
  max-width: 760px;
}
.list {
  list-style: none;
  padding: 0;
  margin: 0;
  display: grid;
  gap: 12px;
}
.list li {
  display: flex;
  align-items: center;
  gap: 16px;
}
.grow {
  flex: 1;
}
h2 {
  margin: 0;
}
.ask {
  margin-top: 14px;
}
</style>
