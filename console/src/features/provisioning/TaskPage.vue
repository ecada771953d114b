<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { answered, api } from '../../api/client'
import ErrorMessage from '../../components/ErrorMessage.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ id: string }>()
const router = useRouter()
const queries = useQueryClient()
const path = { id: props.id }
const task = useQuery({
  queryKey: ['tasks', props.id],
  queryFn: () => answered(api.GET('/api/v1/provisioning/tasks/{id}', { params: { path } })),
  refetchInterval: 2000,
})
const data = computed(() => task.data.value)
const wrong = ref<unknown>(null)

const remote = ref('')
async function tell(found: 'exists' | 'missing'): Promise<void> {
  wrong.value = null
  try {
    const body = { found, remote_id: found === 'exists' ? remote.value : null }
    await answered(api.POST('/api/v1/provisioning/tasks/{id}/resolve', { params: { path }, body }))
    await queries.invalidateQueries()
  } catch (problem) {
    wrong.value = problem
  }
}

async function again(): Promise<void> {
  try {
    const opened = await answered(api.POST('/api/v1/provisioning/tasks/{id}/retry', { params: { path } }))
    await queries.invalidateQueries()
    if (opened.id !== props.id) await router.push(`/provisioning/tasks/${opened.id}`)
  } catch (problem) {
    wrong.value = problem
  }
}
</script>

<template>
  <div class="page">
    <ErrorMessage :wrong="task.error.value ?? wrong" />
    <template v-if="data">
      <div class="head">
        <div class="grow">
          <h1>{{ data.user.display_name }} in {{ data.application.label }}</h1>
          <p class="lead">
            <StatusLabel :status="data.status" /> · desired state: {{ data.desired_state }} · since
            <TimeLabel :at="data.created_at" /> ·
            <router-link :to="`/users/${data.user.id}`">user</router-link> ·
            <router-link :to="`/applications/${data.application.key}`">application</router-link>
          </p>
        </div>
        <v-btn v-if="data.kind !== 'unknown'" color="primary" @click="again">Retry now</v-btn>
      </div>
      <section v-if="data.message || data.waits_for" class="panel" aria-labelledby="said">
        <h2 id="said">{{ data.waits_for ? `Waiting: ${data.waits_for}` : 'Response of the application' }}</h2>
        <p class="words">{{ data.message }}</p>
        <p v-if="data.hint" class="words"><b>How to fix:</b> {{ data.hint }}</p>
        <p v-if="data.next_attempt_at && data.status === 'waiting'" class="quiet">
          Next automatic attempt at <TimeLabel :at="data.next_attempt_at" />
        </p>
      </section>
      <section v-if="data.kind === 'unknown' && data.status === 'held'" class="panel" aria-labelledby="found">
        <h2 id="found">Does the account exist in the application?</h2>
        <form class="row" aria-label="Resolve the task" @submit.prevent="tell('exists')">
          <v-text-field v-model="remote" label="Account ID in the application" class="narrow" />
          <v-btn type="submit" color="primary">It exists</v-btn>
          <v-btn variant="outlined" @click="tell('missing')">Create it</v-btn>
        </form>
      </section>
      <section class="panel" aria-labelledby="attempts">
        <h2 id="attempts">Attempts</h2>
        <p v-if="!data.tries.length" class="quiet">None yet.</p>
        <ol class="tries">
          <li v-for="each in data.tries" :key="each.started_at">
            <div class="row">
              <StatusLabel :status="each.outcome" /> <TimeLabel :at="each.started_at" />
              <span class="quiet">version {{ each.version }}</span>
            </div>
            <div v-if="each.message">{{ each.message }}</div>
            <div v-for="(exchange, number) in each.exchanges" :key="number" class="exchange mono">
              {{ exchange.method }} {{ exchange.path
              }}{{ exchange.query ? ` ? ${Object.values(exchange.query).join(' ')}` : '' }} →
              <b>{{ exchange.status ?? 'no response' }}</b>{{ ' ' }}
              <span class="quiet"
                >{{ exchange.milliseconds }} ms{{
                  exchange.bulk_operations ? `, ${exchange.bulk_operations} changes in one request` : ''
                }}</span
              >
              <div v-if="exchange.excerpt" class="quiet">{{ exchange.excerpt }}</div>
            </div>
          </li>
        </ol>
      </section>
    </template>
  </div>
</template>

<style scoped>
.words {
  margin: 0 0 6px;
  max-width: 80ch;
}
.tries {
  margin: 0;
  padding-left: 20px;
}
.tries li {
  padding: 6px 0;
}
.exchange {
  padding: 2px 0 2px 12px;
  border-left: 3px solid rgb(var(--v-theme-line));
}
</style>
