<script setup lang="ts">
// The sessions of a user, with a button to end them.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { answered, api } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useMay } from '../../app/session'
import ErrorMessage from '../../components/ErrorMessage.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ user: string }>()
const may = useMay()
const queries = useQueryClient()
const { wrong, attempt } = useAttempts()
const params = { path: { user: props.user } }
const user_sessions = useQuery({
  queryKey: ['users', props.user, 'user_sessions'],
  queryFn: () => answered(api.GET('/api/v1/users/{user}/sessions', { params })),
  refetchInterval: 5000,
})
const end = () =>
  attempt(async () => {
    await answered(api.DELETE('/api/v1/users/{user}/sessions', { params }))
    await queries.invalidateQueries()
  })
</script>

<template>
  <section v-if="user_sessions.data.value?.items.length" class="panel" aria-labelledby="user_sessions">
    <div class="row between">
      <h2 id="user_sessions">Sessions</h2>
      <v-btn v-if="may('users.change')" size="small" variant="outlined" @click="end">End all sessions</v-btn>
    </div>
    <ErrorMessage :wrong="wrong" />
    <table class="plain">
      <thead>
        <tr>
          <th scope="col">Source</th>
          <th scope="col">Since</th>
          <th scope="col">Last used</th>
          <th scope="col">Expires</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="each in user_sessions.data.value.items" :key="each.id">
          <td>
            <router-link :to="`/sources/${each.source.key}/sign-ins`">{{ each.source.label }}</router-link>
          </td>
          <td><TimeLabel :at="each.created_at" /></td>
          <td><TimeLabel :at="each.last_seen_at" /></td>
          <td><TimeLabel :at="each.until_at" /></td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
.between {
  justify-content: space-between;
}
</style>
