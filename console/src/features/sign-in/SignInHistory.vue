<script setup lang="ts">
// The sign-ins of a source, newest first, each with its steps.
import { mdiFileDownloadOutline, mdiMagnify } from '@mdi/js'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { save as saveFile } from '../../app/files'
import { useAddressFilter, useWords } from '../../app/addressFilters'
import { useMay } from '../../app/session'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import SignInResult from './SignInResult.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ source: string }>()
const may = useMay()
const router = useRouter()
const { typed, words } = useWords()
const outcome = useAddressFilter('outcome')
const { wrong, attempt } = useAttempts()
const about = computed(() => ({
  q: words.value,
  outcome: outcome.value as 'signed_in' | 'observed' | 'refused' | undefined,
}))
const fetch = (after: string | undefined, count: number) =>
  answered(
    api.GET('/api/v1/sources/{key}/sign-in/traces', {
      params: { path: { key: props.source }, query: { after, count, ...about.value } },
    }),
  )
const opened = ref<Schemas['SignInTrace'] | null>(null)
const again = ref<Schemas['PlannedSignIn'] | null>(null)
const at = (trace: string) => ({ path: { key: props.source, trace } })
async function open(id: string): Promise<void> {
  again.value = null
  if (opened.value?.id === id) {
    opened.value = null
    return
  }
  await attempt(async () => {
    const params = at(id)
    opened.value = await answered(api.GET('/api/v1/sources/{key}/sign-in/traces/{trace}', { params }))
  })
}
const plan = (id: string) =>
  attempt(async () => {
    const [params, body] = [at(id), { policy: {} }]
    again.value = await answered(
      api.POST('/api/v1/sources/{key}/sign-in/traces/{trace}/rerun', { params, body }),
    )
  })
/** Starts a simulation with this sign-in. */
function expect(trace: Schemas['SignInTrace']): void {
  const groups = trace.groups.flatMap((each) => (each.group?.id ? [String(each.group.id)] : []))
  const expected = JSON.stringify({ source: props.source, groups, user: trace.made })
  void router.push({ path: '/access/simulate', state: { expected } })
}
/** Downloads the trace. */
function save(trace: Schemas['SignInTrace']): void {
  saveFile(`sign-in-${trace.id}.json`, JSON.stringify(trace, null, 2), 'application/json')
}
</script>

<template>
  <div class="row filters">
    <v-text-field
      v-model="typed"
      :prepend-inner-icon="mdiMagnify"
      label="User or error"
      clearable
      class="words"
    />
    <v-select
      v-model="outcome"
      :items="['signed_in', 'observed', 'refused']"
      label="Outcome"
      clearable
      class="narrow"
    />
  </div>
  <ErrorMessage :wrong="wrong" />
  <PagedTable
    :name="`sign-ins-${source}`"
    caption="Sign-ins"
    :columns="['Time', 'User', 'Outcome', 'Reason', '']"
    :fetch="fetch"
    :about="about"
    :refresh="3000"
    :count="25"
  >
    <template #row="{ item }">
      <td class="when"><TimeLabel :at="item.at" /></td>
      <td>
        <router-link v-if="item.user" :to="`/users/${item.user}`">{{ item.name }}</router-link>
        <template v-else>{{ item.name }}</template>
        <div v-if="item.sign_in_test" class="quiet">test sign-in</div>
      </td>
      <td><StatusLabel :status="item.outcome" /></td>
      <td>
        {{ item.message }}
        <div v-if="item.hint" class="quiet"><b>How to fix:</b> {{ item.hint }}</div>
      </td>
      <td>
        <v-btn size="small" variant="text" :aria-expanded="opened?.id === item.id" @click="open(item.id)">{{
          opened?.id === item.id ? 'Close' : 'Open'
        }}</v-btn>
      </td>
    </template>
    <template #empty>
      <EmptyState title="No sign-ins yet"
        >Create a test sign-in for one user. Each step appears here.</EmptyState
      >
    </template>
  </PagedTable>
  <section v-if="opened" class="panel opened" aria-labelledby="trace">
    <h2 id="trace">{{ opened.name }}, <TimeLabel :at="opened.at" /></h2>
    <SignInResult :planned="opened" />
    <div v-if="opened.received.length" class="scroll" role="group" aria-label="Received claims" tabindex="0">
      <h3>Received claims</h3>
      <p class="quiet">
        Issuer <span class="mono">{{ opened.issuer }}</span>, subject
        <span class="mono">{{ opened.subject }}</span>
        <router-link
          v-if="opened.outcome === 'refused' && opened.subject && may('sources.change')"
          :to="`/sources/${source}/conflicts?subject=${encodeURIComponent(opened.subject)}`"
          >Link to a user</router-link
        >
      </p>
      <table class="plain">
        <thead>
          <tr>
            <th scope="col">Claim</th>
            <th scope="col">Values</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="each in opened.received" :key="each.name">
            <td class="mono">{{ each.name }}</td>
            <td>{{ each.values.join(', ') }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <div class="row">
      <v-btn variant="outlined" :prepend-icon="mdiFileDownloadOutline" @click="save(opened)">Download</v-btn>
      <v-btn v-if="opened.received.length" variant="outlined" @click="plan(opened.id)"
        >Evaluate with current settings</v-btn
      >
      <v-btn v-if="opened.made.userName" variant="text" @click="expect(opened)">Simulate access</v-btn>
      <span class="quiet mono">{{ opened.id }}</span>
    </div>
    <template v-if="again">
      <h3>With current settings</h3>
      <SignInResult :planned="again" />
    </template>
    <details v-if="opened.raw">
      <summary>Raw message (signatures removed)</summary>
      <pre class="mono raw" tabindex="0">{{ opened.raw }}</pre>
    </details>
  </section>
</template>

<style scoped>
.opened {
  margin-top: 12px;
}
h3 {
  font-size: 15px;
  margin: 12px 0 4px;
}
summary {
  cursor: pointer;
  margin-top: 12px;
  padding: 4px 0;
}
.raw {
  max-height: 320px;
  overflow: auto;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  font-size: 12px;
}
</style>
