<script setup lang="ts">
// One named person tries to sign in, for some minutes: to look only, or for real.
import { ref } from 'vue'
import { answered, api, type Schemas } from '../api/client'
import { useAttempts } from '../app/attempts'
import { useMay } from '../app/session'
import ProblemNote from './ProblemNote.vue'
import SecretOnce from './SecretOnce.vue'
import TimeOf from './TimeOf.vue'

const props = defineProps<{ source: string; missing: string[] }>()
const may = useMay()
const person = ref('')
const mode = ref<'observe' | 'for real'>('observe')
const made = ref<Schemas['NewTrial'] | null>(null)
const { wrong, attempt } = useAttempts()
const begin = () =>
  attempt(async () => {
    const [params, body] = [{ path: { key: props.source } }, { person: person.value, mode: mode.value, minutes: 30 }]
    made.value = await answered(api.POST('/api/v1/sources/{key}/sign-in/trials', { params, body }))
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
    <ProblemNote :wrong="wrong" />
    <p v-if="missing.length"><b>Missing yet:</b> {{ missing.join(', ') }}.</p>
    <form v-if="may('sources.change')" class="row" @submit.prevent="begin">
      <v-text-field v-model="person" label="Who tries: user name or e-mail" class="words" hide-details />
      <v-select v-model="mode" :items="modes" label="How" class="how" hide-details />
      <v-btn type="submit" color="primary" :disabled="!person.trim() || missing.length > 0">Make a link</v-btn>
    </form>
    <template v-if="made">
      <SecretOnce :secret="made.link" :name="`Link for ${made.person}`" />
      <p>Good until <TimeOf :at="made.until_at" />.</p>
    </template>
  </section>
</template>

<style scoped>
.how {
  max-width: 300px;
}
</style>
