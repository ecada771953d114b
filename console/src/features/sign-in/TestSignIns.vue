<script setup lang="ts">
// One named person tries to sign in, for some minutes: to look only, or for real.
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
const person = ref('')
const mode = ref<'observe' | 'for real'>('observe')
const made = ref<Schemas['NewTrial'] | null>(null)
const { wrong, attempt } = useAttempts()
const begin = () =>
  attempt(async () => {
    const [params, body] = [{ path: { key: props.source } }, { person: person.value, mode: mode.value, minutes: 30 }]
    made.value = await answered(api.POST('/api/v1/sources/{key}/sign-in/tests', { params, body }))
  })
/** How far each link has come, as it is used. */
const trials = useQuery({
  queryKey: ['sources', props.source, 'trials'],
  refetchInterval: 2000,
  queryFn: () =>
    answered(
      api.GET('/api/v1/sources/{key}/sign-in/tests', {
        params: { path: { key: props.source }, query: { count: 5 } },
      }),
    ),
})
const modes = [
  { title: 'Look only: nothing is changed', value: 'observe' },
  { title: 'For real: they are taken in', value: 'for real' },
]
</script>

<template>
  <section class="panel" aria-labelledby="trial">
    <h2 id="trial">Let one person try</h2>
    <p class="quiet">
      It works while nothing is in force for anybody else. Send them the link; what arrives, and each step, is shown
      below.
    </p>
    <ErrorMessage :wrong="wrong" />
    <p v-if="missing.length"><b>Missing yet:</b> {{ missing.join(', ') }}.</p>
    <form v-if="may('sources.change')" class="row" @submit.prevent="begin">
      <v-text-field v-model="person" label="Who tries: user name or e-mail" class="words" hide-details />
      <v-select v-model="mode" :items="modes" label="How" class="how" hide-details />
      <v-btn type="submit" color="primary" :disabled="!person.trim() || missing.length > 0">Make a link</v-btn>
    </form>
    <template v-if="made">
      <SecretOnce :secret="made.link" :name="`Link for ${made.person}`" />
      <p>Good until <TimeLabel :at="made.until_at" />.</p>
    </template>
    <table v-if="trials.data.value?.items.length" class="plain" aria-label="Trials">
      <thead>
        <tr>
          <th scope="col">For</th>
          <th scope="col">How</th>
          <th scope="col">Good until</th>
          <th scope="col">So far</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="each in trials.data.value.items" :key="each.id">
          <td>{{ each.person }}</td>
          <td>{{ each.mode === 'observe' ? 'to look only' : 'for real' }}</td>
          <td><TimeLabel :at="each.until_at" /></td>
          <td>
            <StatusLabel :state="each.so_far" />
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
