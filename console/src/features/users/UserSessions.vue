<script setup lang="ts">
// Where a person is signed in to see what is theirs, and the end of it.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { answered, api } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useMay } from '../../app/session'
import ErrorMessage from '../../components/ErrorMessage.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ person: string }>()
const may = useMay()
const queries = useQueryClient()
const { wrong, attempt } = useAttempts()
const params = { path: { person: props.person } }
const visits = useQuery({
  queryKey: ['people', props.person, 'visits'],
  queryFn: () => answered(api.GET('/api/v1/users/{person}/sessions', { params })),
  refetchInterval: 5000,
})
const end = () =>
  attempt(async () => {
    await answered(api.DELETE('/api/v1/users/{person}/sessions', { params }))
    await queries.invalidateQueries()
  })
</script>

<template>
  <section v-if="visits.data.value?.items.length" class="panel" aria-labelledby="visits">
    <div class="row between">
      <h2 id="visits">Signed in now</h2>
      <v-btn v-if="may('people.change')" size="small" variant="outlined" @click="end">Sign them out everywhere</v-btn>
    </div>
    <ErrorMessage :wrong="wrong" />
    <table class="plain">
      <thead>
        <tr>
          <th scope="col">By</th>
          <th scope="col">Since</th>
          <th scope="col">Seen last</th>
          <th scope="col">Ends at the latest</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="each in visits.data.value.items" :key="each.id">
          <td>
            <router-link :to="`/sources/${each.source.key}/trials`">{{ each.source.label }}</router-link>
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
