<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api } from '../../api/client'
import { useAttempts } from '../../app/actions'
import SourcePolicyPanel from './SourcePolicyPanel.vue'
import ConflictsPanel from './ConflictsPanel.vue'
import ScimChecklist from './ScimChecklist.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import ImportPanel from './ImportPanel.vue'
import RequestTable from './RequestTable.vue'
import ImportRunsPanel from './ImportRunsPanel.vue'
import SchemaPanel from './SchemaPanel.vue'
import SignInSettings from '../sign-in/SignInSettings.vue'
import SignInHistory from '../sign-in/SignInHistory.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import TokenTable from './TokenTable.vue'
import TestSignIns from '../sign-in/TestSignIns.vue'
import PriorityPanel from './PriorityPanel.vue'

const props = defineProps<{ id: string; tab?: string }>()
const path = { key: props.id }
const source = useQuery({
  queryKey: ['sources', props.id],
  queryFn: () => answered(api.GET('/api/v1/sources/{key}', { params: { path } })),
  refetchInterval: 5000,
})
const local = computed(() => source.data.value?.connection_type === 'local')
const read = computed(() => source.data.value?.connection_type === 'import')
const kind = computed(() => {
  if (local.value) return 'What operators enter here'
  if (source.data.value?.connection_type === 'sign_in') return 'A source by which people sign in'
  return read.value ? 'A source that we read' : 'A source that pushes'
})
const reading = useQuery({
  queryKey: ['sources', props.id, 'import'],
  enabled: read,
  queryFn: () => answered(api.GET('/api/v1/sources/{key}/import', { params: { path } })),
  refetchInterval: 5000,
})
/** What is read from now on keeps its form, with what its check has just shown. */
const begun = ref(false)
watch(source.data, (found) => (begun.value ||= found !== undefined && found.connection_type !== 'import'), {
  immediate: true,
})
const ready = computed(() => begun.value || reading.data.value !== undefined)
const pushes = [
  ['sheet', 'Exchange sheet'],
  ['requests', 'Requests'],
  ['schemas', 'Schemas'],
] as const
const signsIn = computed(() => Boolean(source.data.value?.sign_in_state))
const signIn = useQuery({
  queryKey: ['sources', props.id, 'sign-in'],
  enabled: signsIn,
  queryFn: () => answered(api.GET('/api/v1/sources/{key}/sign-in', { params: { path } })),
  refetchInterval: 5000,
})
const queries = useQueryClient()
const { wrong, attempt } = useAttempts()
/** Have people sign in by this source from now on: the rest is filled in on its sheet. */
const letSignIn = (protocol: 'saml' | 'oidc' | 'mail') =>
  attempt(async () => {
    await answered(api.PUT('/api/v1/sources/{key}/sign-in', { params: { path }, body: { protocol } }))
    await queries.invalidateQueries()
  })
const signs = [
  ['sign-in', 'Signing in'],
  ['trials', 'Trials and traces'],
  ['claims', 'Five questions'],
] as const
const reads = [
  ['runs', 'Runs'],
  ['answers', 'Five questions'],
  ['conflicts', 'Conflicts'],
  ['import', 'How it is read'],
] as const
/** What it does comes first: a source that is read shows its runs, one that calls us its exchange sheet. */
const tabs = computed(() => {
  const conflicts = ['conflicts', 'Conflicts'] as const
  if (read.value && signsIn.value)
    return [...reads, ...signs.slice(0, 2), ['claims', 'Who signs in'] as const, ...pushes]
  if (read.value) return [...reads, ...pushes, ['sign-in', 'Let people sign in'] as const]
  if (signsIn.value) return [...signs, conflicts, ...pushes]
  return [
    pushes[0],
    conflicts,
    ...pushes.slice(1),
    ['import', 'Read it instead'] as const,
    ['sign-in', 'Let people sign in'] as const,
  ]
})
const shown = computed(() => props.tab || tabs.value[0]![0])
const sheet = useQuery({
  queryKey: ['sources', props.id, 'sheet'],
  enabled: computed(() => source.data.value !== undefined && !local.value),
  queryFn: () => answered(api.GET('/api/v1/sources/{key}/checklist', { params: { path } })),
  refetchInterval: 3000,
})
</script>

<template>
  <div class="page">
    <ErrorMessage :wrong="source.error.value" />
    <template v-if="source.data.value">
      <div class="head">
        <div class="grow">
          <h1>{{ source.data.value.label }}</h1>
          <p class="lead">
            {{ kind }} ·
            <router-link to="/users">{{ source.data.value.people.toLocaleString('en') }} people</router-link> ·
            <router-link :to="`/groups?source=${id}`"
              >{{ source.data.value.groups.toLocaleString('en') }} groups</router-link
            >
            <template v-if="read">
              · read last <TimeLabel :at="source.data.value.run_ended_at" never="never"
            /></template>
            <template v-else-if="source.data.value.connection_type === 'sign_in'">
              <template v-if="source.data.value.signed_in_at">
                · somebody came last <TimeLabel :at="source.data.value.signed_in_at"
              /></template>
              <template v-else> · nobody came yet</template>
            </template>
            <template v-else-if="!local"> · last call <TimeLabel :at="source.data.value.last_call_at" /></template>
          </p>
        </div>
      </div>
      <p v-for="each in source.data.value.shared_domains" :key="each.domain" role="note" class="panel shared">
        <b>{{ each.domain }}</b> is also owned by {{ each.sources.map((other) => other.label).join(', ') }}. Dravo
        trusts both for emails of this domain, and users choose how to sign in.
      </p>
      <div v-if="local" class="panel">
        <p>
          People whom no source knows, and groups that hold people and groups of any source. Whatever a source says of
          somebody comes before what is entered here.
        </p>
        <v-btn variant="outlined" to="/users">People</v-btn>
        <v-btn variant="outlined" :to="`/groups?source=${id}`">Groups</v-btn>
      </div>
      <template v-else>
        <v-tabs :model-value="shown" class="tabs">
          <v-tab v-for="[key, title] in tabs" :key="key" :value="key" :to="`/sources/${id}/${key}`"
            >{{ title
            }}<template v-if="key === 'conflicts' && source.data.value.conflicts"
              >&nbsp;({{ source.data.value.conflicts }})</template
            ></v-tab
          >
        </v-tabs>
        <div v-if="shown === 'requests'" class="panel"><RequestTable :source="id" /></div>
        <SchemaPanel v-else-if="shown === 'schemas'" :source="id" />
        <ConflictsPanel v-else-if="shown === 'conflicts'" :source="id" :label="source.data.value.label" />
        <template v-else-if="['sign-in', 'trials', 'claims'].includes(shown)">
          <ErrorMessage :wrong="signIn.error.value ?? wrong" />
          <div v-if="!signsIn" class="panel">
            <h2>Let people sign in by this source</h2>
            <p>
              They sign in at their own identity provider, or by a code that is mailed to them, and are made here the
              first time that they come. Nobody can before you put it in force.
            </p>
            <div class="row">
              <v-btn color="primary" @click="letSignIn('saml')">By SAML 2.0</v-btn>
              <v-btn color="primary" @click="letSignIn('oidc')">By OpenID Connect</v-btn>
              <v-btn color="primary" variant="outlined" @click="letSignIn('mail')">By a code that is mailed</v-btn>
            </div>
          </div>
          <template v-else-if="signIn.data.value">
            <SignInSettings
              v-if="shown === 'sign-in'"
              :source="id"
              :label="source.data.value.label"
              :sign-in="signIn.data.value"
            />
            <template v-else-if="shown === 'trials'">
              <TestSignIns :source="id" :missing="signIn.data.value.missing" />
              <div class="panel below"><SignInHistory :source="id" /></div>
            </template>
            <SourcePolicyPanel
              v-else
              :source="id"
              :label="source.data.value.label"
              :conflicts="source.data.value.conflicts"
              :sign-in="signIn.data.value"
            />
          </template>
        </template>
        <template v-else-if="shown === 'import' || shown === 'runs' || shown === 'answers'">
          <ErrorMessage :wrong="reading.error.value" />
          <ImportPanel v-if="shown === 'import' && ready" :source="id" :reading="reading.data.value ?? null" />
          <template v-else-if="reading.data.value">
            <ImportRunsPanel
              v-if="shown === 'runs'"
              :source="id"
              :label="source.data.value.label"
              :reading="reading.data.value"
            />
            <template v-else>
              <SourcePolicyPanel
                :source="id"
                :label="source.data.value.label"
                :conflicts="reading.data.value.conflicts"
                :reading="reading.data.value"
              />
              <PriorityPanel :source="source.data.value" />
            </template>
          </template>
        </template>
        <template v-else>
          <ScimChecklist v-if="sheet.data.value" :sheet="sheet.data.value" />
          <TokenTable :source="id" />
          <PriorityPanel :source="source.data.value" />
        </template>
      </template>
    </template>
  </div>
</template>

<style scoped>
.shared {
  margin-bottom: 12px;
  border-left: 4px solid rgb(var(--v-theme-look));
}
.tabs {
  margin-bottom: 12px;
}
.below {
  margin-top: 12px;
}
</style>
