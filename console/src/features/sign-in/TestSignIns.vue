<script setup lang="ts">
// Test sign-ins of one user, to observe or to apply.
import { useQuery } from '@tanstack/vue-query'
import { ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useMay } from '../../app/session'
import ErrorMessage from '../../components/ErrorMessage.vue'
import SecretOnce from '../../components/SecretOnce.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ source: string; missing: string[] }>()
const may = useMay()
const user = ref('')
const mode = ref<'observe' | 'apply'>('observe')
const made = ref<Schemas['NewSignInTest'] | null>(null)
const { wrong, attempt } = useAttempts()
const begin = () =>
  attempt(async () => {
    const [params, body] = [
      { path: { key: props.source } },
      { user: user.value, mode: mode.value, minutes: 30 },
    ]
    made.value = await answered(api.POST('/api/v1/sources/{key}/sign-in/tests', { params, body }))
  })
/** The status of each link. */
const sign_in_tests = useQuery({
  queryKey: ['sources', props.source, 'sign-ins'],
  refetchInterval: 2000,
  queryFn: () =>
    answered(
      api.GET('/api/v1/sources/{key}/sign-in/tests', {
        params: { path: { key: props.source }, query: { count: 5 } },
      }),
    ),
})
const modes = [
  { title: 'Observe: change nothing', value: 'observe' },
  { title: 'Apply: create or update the user', value: 'apply' },
]
</script>

<template>
  <section class="panel" aria-labelledby="sign_in_test">
    <h2 id="sign_in_test">Test sign-in</h2>
    <p class="quiet">
      A test sign-in works while sign-in is disabled for everyone else. Send the link to the user. The
      received claims and each step appear below.
    </p>
    <ErrorMessage :wrong="wrong" />
    <p v-if="missing.length"><b>Missing:</b> {{ missing.join(', ') }}.</p>
    <form v-if="may('sources.change')" class="row" @submit.prevent="begin">
      <v-text-field v-model="user" label="User name or email" class="words" hide-details />
      <v-select v-model="mode" :items="modes" label="Mode" class="how" hide-details />
      <v-btn type="submit" color="primary" :disabled="!user.trim() || missing.length > 0">Create link</v-btn>
    </form>
    <template v-if="made">
      <SecretOnce :secret="made.link" :name="`Link for ${made.user}`" />
      <p>Valid until <TimeLabel :at="made.until_at" />.</p>
    </template>
    <table v-if="sign_in_tests.data.value?.items.length" class="plain" aria-label="Test sign-ins">
      <thead>
        <tr>
          <th scope="col">User</th>
          <th scope="col">Mode</th>
          <th scope="col">Valid until</th>
          <th scope="col">Result</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="each in sign_in_tests.data.value.items" :key="each.id">
          <td>{{ each.user }}</td>
          <td>{{ each.mode === 'observe' ? 'observe' : 'apply' }}</td>
          <td><TimeLabel :at="each.until_at" /></td>
          <td>
            <StatusLabel :status="each.so_far" />
            <span v-if="each.so_far_at" class="quiet">
              <TimeLabel :at="each.so_far_at" />{{ each.message ? `: ${each.message}` : '' }}
            </span>
          </td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
.how {
  max-width: 300px;
}
</style>
