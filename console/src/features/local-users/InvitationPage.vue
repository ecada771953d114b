<script setup lang="ts">
// The page of an invitation's link: the invited user chooses a password, or signs in through a source.
import { useQuery } from '@tanstack/vue-query'
import { answered, api, type Schemas } from '../../api/client'
import type { ChosenPassword } from '../../app/passwords'
import { useAttempts } from '../../app/actions'
import ErrorMessage from '../../components/ErrorMessage.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import NewPassword from './NewPassword.vue'
import OpenPage from './OpenPage.vue'

// Behind the sign #, so that no server and no other page learns the secret.
const secret = location.hash.slice(1)
const invitation = useQuery({
  queryKey: ['invitation'],
  retry: false,
  queryFn: () => answered(api.POST('/api/v1/invitation/open', { body: { secret } })),
  refetchOnWindowFocus: false,
})
const { wrong, attempt } = useAttempts()
const go = (to: Schemas['GoTo']) => location.assign(to.go_to)
const accept = async (chosen: ChosenPassword) =>
  go(await answered(api.POST('/api/v1/invitation/accept', { body: { secret, ...chosen } })))
const acceptWith = (source: string) =>
  attempt(async () =>
    go(await answered(api.POST('/api/v1/invitation/accept-with-source', { body: { secret, source } }))),
  )
</script>

<template>
  <OpenPage :title="invitation.data.value ? `Welcome, ${invitation.data.value.display_name}` : 'Invitation'">
    <template v-if="invitation.data.value">
      <p>
        You are invited to the applications<template v-if="invitation.data.value.organization">
          of {{ invitation.data.value.organization }}</template
        >. Your user name is <span class="mono">{{ invitation.data.value.user_name }}</span>. The invitation
        is valid until <TimeLabel :at="invitation.data.value.until_at" />.
      </p>
      <ErrorMessage :wrong="wrong" />
      <div v-if="invitation.data.value.sources.length" class="sources">
        <p>Your organization has its own sign-in. Accept with it:</p>
        <v-btn
          v-for="each in invitation.data.value.sources"
          :key="each.key"
          color="primary"
          @click="acceptWith(each.key)"
          >Accept with {{ each.label }}</v-btn
        >
      </div>
      <NewPassword v-else act="Accept" :least="invitation.data.value.least" :send="accept" />
    </template>
    <template v-else-if="invitation.error.value">
      <ErrorMessage :wrong="invitation.error.value" />
      <v-btn variant="outlined" to="/sign-in">Sign in</v-btn>
    </template>
  </OpenPage>
</template>

<style scoped>
.sources {
  display: grid;
  gap: 10px;
  justify-items: start;
}
</style>
