<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useMay } from '../../app/session'
import SourcePolicyPanel from './SourcePolicyPanel.vue'
import ConflictsPanel from './ConflictsPanel.vue'
import ScimChecklist from './ScimChecklist.vue'
import EmptyState from '../../components/EmptyState.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import HandOver from './HandOver.vue'
import ImportPanel from './ImportPanel.vue'
import RequestTable from './RequestTable.vue'
import RetireSource from './RetireSource.vue'
import ImportRunsPanel from './ImportRunsPanel.vue'
import SchemaPanel from './SchemaPanel.vue'
import SourceDialog from './SourceDialog.vue'
import SourceGuide from './SourceGuide.vue'
import SignInSettings from '../sign-in/SignInSettings.vue'
import SignInHistory from '../sign-in/SignInHistory.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import TokenTable from './TokenTable.vue'
import TestSignIns from '../sign-in/TestSignIns.vue'
import LinksAhead from './LinksAhead.vue'
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
const signInFirst = computed(() => source.data.value?.connection_type === 'sign_in')
const kind = computed(() => {
  if (local.value) return 'Local users and groups'
  if (signInFirst.value) return 'Sign-in'
  return read.value ? 'Import' : 'Inbound SCIM'
})
const reading = useQuery({
  queryKey: ['sources', props.id, 'import'],
  enabled: computed(() => Boolean(source.data.value?.read_as)),
  queryFn: () => answered(api.GET('/api/v1/sources/{key}/import', { params: { path } })),
  refetchInterval: 5000,
})
/** Keeps the form of the import open with the result of its check. */
const begun = ref(false)
watch(source.data, (found) => (begun.value ||= found !== undefined && !found.read_as), {
  immediate: true,
})
const ready = computed(() => begun.value || reading.data.value !== undefined)
const pushes = [
  ['checklist', 'Setup checklist'],
  ['requests', 'Requests'],
  ['schemas', 'Schemas'],
] as const
/** Among the tabs of another connection type, the policy of inbound SCIM has a longer title. */
const scimPolicy = ['scim-policy', 'SCIM policy'] as const
const signsIn = computed(() => Boolean(source.data.value?.sign_in_status))
const signIn = useQuery({
  queryKey: ['sources', props.id, 'sign-in'],
  enabled: signsIn,
  queryFn: () => answered(api.GET('/api/v1/sources/{key}/sign-in', { params: { path } })),
  refetchInterval: 5000,
})
/** The connection types whose records can be linked ahead. */
const linked = computed(() => [
  ...(signsIn.value ? (['sign_in'] as const) : []),
  ...(source.data.value?.read_as ? (['import'] as const) : []),
])
const queries = useQueryClient()
const may = useMay()
const { wrong, attempt } = useAttempts()
/** Adds sign-in to the source; its values are entered on the Sign-in tab. */
const letSignIn = (protocol: 'saml' | 'oidc' | 'email_code') =>
  attempt(async () => {
    await answered(api.PUT('/api/v1/sources/{key}/sign-in', { params: { path }, body: { protocol } }))
    await queries.invalidateQueries()
  })
const signs = [
  ['sign-in', 'Sign-in'],
  ['sign-ins', 'Sign-in history'],
  ['sign-in-policy', 'Source policy'],
] as const
const reads = [
  ['runs', 'Import runs'],
  ['policy', 'Source policy'],
  ['conflicts', 'Conflicts'],
  ['import', 'Import settings'],
] as const
/** The main tab first: import runs for an import, the setup checklist for inbound SCIM. */
const allTabs = computed(() => {
  const conflicts = ['conflicts', 'Conflicts'] as const
  if (read.value && signsIn.value)
    return [
      ...reads,
      ...signs.slice(0, 2),
      ['sign-in-policy', 'Sign-in policy'] as const,
      ...pushes,
      scimPolicy,
    ]
  if (read.value) return [...reads, ...pushes, scimPolicy, ['sign-in', 'Add sign-in'] as const]
  if (signsIn.value || signInFirst.value) return [...signs, conflicts, ...pushes, scimPolicy]
  return [
    pushes[0],
    ['scim-policy', 'Source policy'] as const,
    conflicts,
    ...pushes.slice(1),
    ['import', 'Add import'] as const,
    ['sign-in', 'Add sign-in'] as const,
  ]
})
/** The tabs without the areas that are hidden from the operator. */
const hidden = computed(() => [
  ...(may('requests.read') ? [] : ['requests']),
  ...(may('sign_ins.read') ? [] : ['sign-ins']),
])
const tabs = computed(() => allTabs.value.filter(([key]) => !hidden.value.includes(key)))
/** An import without settings begins with them. */
const first = computed(() => (read.value && !source.data.value?.read_as ? 'import' : tabs.value[0]![0]))
const shown = computed(() => props.tab || first.value)
const editing = ref(false)
const retiring = ref(false)
const handingOver = ref(false)
const checklist = useQuery({
  queryKey: ['sources', props.id, 'checklist'],
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
            <router-link to="/users">{{ source.data.value.users.toLocaleString('en') }} users</router-link> ·
            <router-link :to="`/groups?source=${id}`"
              >{{ source.data.value.groups.toLocaleString('en') }} groups</router-link
            >
            <template v-if="read">
              · last run <TimeLabel :at="source.data.value.run_ended_at" never="never"
            /></template>
            <template v-else-if="source.data.value.connection_type === 'sign_in'">
              <template v-if="source.data.value.signed_in_at">
                · last sign-in <TimeLabel :at="source.data.value.signed_in_at"
              /></template>
              <template v-else> · no sign-in yet</template>
            </template>
            <template v-else-if="!local">
              · last request <TimeLabel :at="source.data.value.last_call_at"
            /></template>
          </p>
          <p v-if="source.data.value.note" class="note">{{ source.data.value.note }}</p>
        </div>
        <SourceGuide v-if="!local" :source="source.data.value" :protocol="signIn.data.value?.protocol" />
        <v-btn v-if="!local && may('sources.change')" variant="outlined" @click="editing = true">Edit</v-btn>
        <v-btn
          v-if="!local && may('sources.change') && !source.data.value.retired_at"
          variant="text"
          @click="handingOver = true"
          >Hand over</v-btn
        >
        <v-btn
          v-if="!local && may('sources.change') && !source.data.value.retired_at"
          variant="text"
          @click="retiring = true"
          >Retire</v-btn
        >
      </div>
      <HandOver
        v-if="!local && may('sources.change')"
        v-model="handingOver"
        :source="source.data.value"
        @done="queries.invalidateQueries()"
      />
      <RetireSource
        v-if="!local && may('sources.change')"
        v-model="retiring"
        :source="source.data.value"
        @done="queries.invalidateQueries()"
      />
      <SourceDialog v-model="editing" :source="source.data.value" @done="queries.invalidateQueries()" />
      <p v-for="each in source.data.value.shared_domains" :key="each.domain" role="note" class="panel shared">
        <b>{{ each.domain }}</b> is also owned by {{ each.sources.map((other) => other.label).join(', ') }}.
        Dravo trusts both for emails of this domain, and users choose how to sign in.
      </p>
      <div v-if="local" class="panel">
        <p>
          Users that no source reports, and groups that contain users and groups of any source. Values from a
          source have priority over values entered here.
        </p>
        <v-btn variant="outlined" to="/users">Users</v-btn>
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
        <template v-else-if="shown === 'conflicts'">
          <ConflictsPanel :source="id" :label="source.data.value.label" />
          <LinksAhead v-if="linked.length" :source="id" :kinds="linked" />
        </template>
        <template v-else-if="['sign-in', 'sign-ins', 'sign-in-policy'].includes(shown)">
          <ErrorMessage :wrong="signIn.error.value ?? wrong" />
          <div v-if="!signsIn" class="panel">
            <h2>{{ signInFirst ? 'Choose the protocol' : 'Add sign-in to this source' }}</h2>
            <p>
              Users sign in at their identity provider or with an emailed code. Dravo creates them at their
              first sign-in. Sign-in stays disabled until you enable it.
            </p>
            <div class="row">
              <v-btn color="primary" @click="letSignIn('saml')">SAML 2.0</v-btn>
              <v-btn color="primary" @click="letSignIn('oidc')">OpenID Connect</v-btn>
              <v-btn color="primary" variant="outlined" @click="letSignIn('email_code')">Emailed code</v-btn>
            </div>
          </div>
          <template v-else-if="signIn.data.value">
            <SignInSettings
              v-if="shown === 'sign-in'"
              :source="id"
              :label="source.data.value.label"
              :sign-in="signIn.data.value"
            />
            <template v-else-if="shown === 'sign-ins'">
              <TestSignIns :source="id" :missing="signIn.data.value.missing" />
              <div class="panel below"><SignInHistory :source="id" /></div>
            </template>
            <template v-else>
              <SourcePolicyPanel
                :source="id"
                connection-type="sign_in"
                :conflicts="source.data.value.conflicts"
              />
              <PriorityPanel v-if="signInFirst" :source="source.data.value" />
            </template>
          </template>
        </template>
        <template v-else-if="shown === 'scim-policy'">
          <SourcePolicyPanel
            :source="id"
            connection-type="inbound_scim"
            :conflicts="source.data.value.conflicts"
          />
          <PriorityPanel v-if="!read && !signInFirst" :source="source.data.value" />
        </template>
        <template v-else-if="shown === 'import' || shown === 'runs' || shown === 'policy'">
          <ErrorMessage :wrong="reading.error.value" />
          <ImportPanel
            v-if="shown === 'import' && ready"
            :source="id"
            :reading="reading.data.value ?? null"
            :template="source.data.value.template"
          />
          <div v-else-if="shown !== 'import' && !source.data.value.read_as" class="panel">
            <EmptyState title="No import settings yet">
              Choose the connector and enter its settings. Runs and the source policy follow from them.
              <template #act>
                <v-btn variant="outlined" :to="`/sources/${id}/import`">Import settings</v-btn>
              </template>
            </EmptyState>
          </div>
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
                connection-type="import"
                :conflicts="reading.data.value.conflicts"
              />
              <PriorityPanel :source="source.data.value" />
            </template>
          </template>
        </template>
        <template v-else>
          <ScimChecklist v-if="checklist.data.value" :checklist="checklist.data.value" />
          <TokenTable :source="id" />
        </template>
      </template>
    </template>
  </div>
</template>

<style scoped>
.note {
  margin: 4px 0 0;
  white-space: pre-line;
}
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
