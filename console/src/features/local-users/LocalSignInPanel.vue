<script setup lang="ts">
// How a local user signs in: invitation, password and second factor.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useLocalUsers } from '../../app/localUsers'
import { useMay } from '../../app/session'
import ErrorMessage from '../../components/ErrorMessage.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import InvitationActions from './InvitationActions.vue'
import OneTimePasswords from './OneTimePasswords.vue'

const props = defineProps<{ user: Schemas['User'] }>()
const may = useMay()
const local = useLocalUsers()
const path = { user: props.user.id }
const signIn = useQuery({
  queryKey: ['users', props.user.id, 'local-sign-in'],
  queryFn: () => answered(api.GET('/api/v1/users/{user}/local-sign-in', { params: { path } })),
  refetchInterval: 5000,
})
const data = computed(() => signIn.data.value)
const handingOut = ref(false)
const { wrong, attempt } = useAttempts()
const reset = () =>
  attempt(() => answered(api.POST('/api/v1/users/{user}/second-factor/reset', { params: { path } })))
</script>

<template>
  <section v-if="local && data" class="panel" aria-labelledby="local-sign-in">
    <h2 id="local-sign-in">Sign-in as a local user</h2>
    <ErrorMessage :wrong="wrong" />
    <dl>
      <template v-if="data.invitation">
        <dt>Invitation</dt>
        <dd class="row">
          <StatusLabel :status="data.invitation.status" />
          <span class="quiet">
            sent <TimeLabel :at="data.invitation.sent_at" /><template
              v-if="['open', 'expired'].includes(data.invitation.status)"
              >, valid until <TimeLabel :at="data.invitation.until_at"
            /></template>
          </span>
          <InvitationActions :invitation="data.invitation" />
        </dd>
      </template>
      <dt>Password</dt>
      <dd class="row">
        <span v-if="!data.has_password">none</span>
        <span v-else-if="data.one_time_until"
          >one-time password, not used yet, valid until <TimeLabel :at="data.one_time_until"
        /></span>
        <span v-else-if="data.must_change">one-time password, to be changed at sign-in</span>
        <span v-else>set <TimeLabel :at="data.password_changed_at" /></span>
        <v-btn
          v-if="may('users.change') && user.status === 'active'"
          size="small"
          variant="outlined"
          @click="handingOut = true"
          >Create one-time password</v-btn
        >
      </dd>
      <dt>Second factor</dt>
      <dd class="row">
        <span>{{ data.second_factor ? 'set up' : 'none' }}</span>
        <v-btn v-if="may('users.change') && data.second_factor" size="small" variant="outlined" @click="reset"
          >Reset second factor</v-btn
        >
      </dd>
    </dl>
    <OneTimePasswords v-model="handingOut" :users="[user]" />
  </section>
</template>

<style scoped>
dl {
  display: grid;
  grid-template-columns: 130px 1fr;
  gap: 8px 12px;
  margin: 0;
  align-items: center;
}
dt {
  font-weight: 700;
}
dd {
  margin: 0;
}
</style>
