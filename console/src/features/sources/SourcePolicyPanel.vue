<script setup lang="ts">
// The source policy of a connection type: matching, scope, attributes and groups, and its status, with a
// preview before it is saved.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useMay } from '../../app/session'
import BusyButton from '../../components/BusyButton.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import ExpressionField from '../../components/ExpressionField.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import SignInResult from '../sign-in/SignInResult.vue'
import GroupChoice, { type Chosen } from './GroupChoice.vue'
import PolicyPreview from './PolicyPreview.vue'
import PolicyStatus from './PolicyStatus.vue'

const props = defineProps<{
  source: string
  connectionType: 'inbound_scim' | 'import' | 'sign_in'
  conflicts: number
}>()
const queries = useQueryClient()
const may = useMay()
const path = { key: props.source, connection_type: props.connectionType }
const { wrong, attempt } = useAttempts()
const found = useQuery({
  queryKey: ['sources', props.source, 'policy', props.connectionType],
  queryFn: () => answered(api.GET('/api/v1/sources/{key}/policy/{connection_type}', { params: { path } })),
  refetchInterval: (query) => (query.state.data?.pending ? 1000 : 5000),
})
type Form = Omit<Schemas['SourcePolicy'], 'groups' | 'member_of'> & { groups: Chosen; member_of: Chosen }
const form = ref<Form | null>(null)
const domains = ref('')
const groupsFrom = ref('')
const gives = ref('')
/** Fills the form once; later answers change only the status. */
watch(
  found.data,
  (detail) => {
    if (!detail || form.value) return
    form.value = JSON.parse(JSON.stringify(detail.policy)) as Form
    domains.value = detail.policy.domains.join('\n')
    groupsFrom.value = detail.policy.groups_from.join('\n')
    gives.value = detail.policy.gives.join('\n')
  },
  { immediate: true },
)
const lines = (text: string) =>
  text
    .split('\n')
    .map((each) => each.trim())
    .filter(Boolean)
const policy = computed(() => ({
  ...form.value!,
  domains: lines(domains.value),
  groups: { ...form.value!.groups, names: lines(form.value!.groups.names.join('\n')) },
  member_of: { ...form.value!.member_of, names: lines(form.value!.member_of.names.join('\n')) },
  groups_from: lines(groupsFrom.value),
  gives: lines(gives.value),
  attributes: form.value!.attributes.filter((each) => each.attribute.trim()),
}))
const tried = ref<Schemas['PolicyPreview'] | null>(null)
const planned = ref<Schemas['PlannedSignIn'] | null>(null)
const busy = ref(false)
const done = ref(false)
const inbound = props.connectionType === 'inbound_scim'
const signIn = props.connectionType === 'sign_in'
async function look(): Promise<void> {
  busy.value = true
  done.value = false
  await attempt(async () => {
    if (signIn) {
      planned.value = await lastPlanned()
      return
    }
    const call = api.POST('/api/v1/sources/{key}/policy/{connection_type}/preview', {
      params: { path },
      body: policy.value,
    })
    tried.value = await answered(call)
  })
  busy.value = false
}
/** Previews the last successful sign-in with this policy. */
async function lastPlanned() {
  const query = { count: 50 }
  const traces = await answered(api.GET('/api/v1/sources/{key}/sign-in/traces', { params: { path, query } }))
  const last = traces.items.find((each) => each.outcome !== 'refused') ?? traces.items[0]
  if (!last) throw new Error('No sign-in yet. Run a test sign-in first.')
  const at = { path: { ...path, trace: last.id } }
  const body = { policy: policy.value }
  return answered(api.POST('/api/v1/sources/{key}/sign-in/traces/{trace}/rerun', { params: at, body }))
}
async function save(): Promise<void> {
  const body = policy.value
  const call = () =>
    answered(api.PUT('/api/v1/sources/{key}/policy/{connection_type}', { params: { path }, body }))
  if (await attempt(call)) {
    done.value = true
    tried.value = null
    await queries.invalidateQueries()
  }
}
const matches = [
  { title: 'Nothing: possible matches become conflicts', value: 'ask' },
  { title: 'User name, within the domains of the source', value: 'user_name' },
  { title: 'Email address, within the domains of the source', value: 'email' },
]
const identified = inbound
  ? 'by the ID that it gave to the source'
  : signIn
    ? 'by issuer and subject'
    : 'by the ID in the source'
const scopeHint = signIn
  ? 'Empty: all authenticated users. Users outside the scope are refused.'
  : 'Empty: all users. Users who leave the scope later are treated as leavers.'
const placeholder = computed(() =>
  signIn ? 'groups' : found.data.value?.reads === 'user' ? 'department' : 'departmentNumber',
)
const noAttributes = inbound
  ? 'The source has sent no user yet.'
  : signIn
    ? 'Run a test sign-in to see the available claims.'
    : 'Check the connection to see the available attributes.'
const applies = inbound
  ? 'Dravo applies the policy to the stored records.'
  : `The policy applies from the next ${signIn ? 'sign-in' : 'run'}.`
</script>

<template>
  <ErrorMessage :wrong="found.error.value" />
  <form v-if="form && found.data.value" aria-label="Source policy" @submit.prevent="save">
    <ErrorMessage :wrong="wrong" />
    <section class="panel" aria-labelledby="who">
      <h2 id="who">Matching</h2>
      <p class="quiet">
        Dravo identifies a user {{ identified }}. The first time, Dravo can link the record to an existing
        user by:
      </p>
      <v-select v-model="form.match" :items="matches" label="Match by" class="wide" />
      <p v-if="inbound">
        Domains of the source: {{ found.data.value.owned_domains.join(', ') || 'none yet' }}. Edit the source
        to change them.
      </p>
      <v-textarea
        v-else
        v-model="domains"
        label="Domains of the source, one per line"
        rows="1"
        auto-grow
        class="wide"
      />
      <p v-if="conflicts">
        <StatusLabel status="open" />&nbsp;
        <router-link :to="`/sources/${source}/conflicts`"
          >{{ conflicts }} conflicts need a decision</router-link
        >
      </p>
    </section>
    <section class="panel" aria-labelledby="may">
      <h2 id="may">Scope</h2>
      <v-text-field
        v-model="form.users"
        label="Users (SCIM filter)"
        placeholder='title ne "Contractor" and department eq "Estates"'
        persistent-placeholder
        :hint="scopeHint"
        persistent-hint
        class="wide mono"
        spellcheck="false"
      />
      <GroupChoice
        v-model="form.member_of"
        :source="source"
        label="Users must be members of"
        all="No group: users without a group are accepted too"
        named="One of the selected groups"
        pattern="A group that matches a pattern"
      />
      <GroupChoice
        v-model="form.groups"
        :source="source"
        label="Accepted groups"
        all="All groups"
        none="No groups"
        named="Selected groups"
        pattern="Groups that match a pattern"
      />
      <v-switch
        v-model="form.makes"
        label="Create users that do not exist yet"
        color="primary"
        hide-details
      />
      <v-text-field
        v-if="!signIn"
        v-model="form.pilot"
        label="Pilot group (name or ID in the source)"
        :hint="
          inbound
            ? 'While the status is pilot, Dravo changes only members of this group.'
            : 'Dravo changes only members of this group. Leave it empty for all users.'
        "
        persistent-hint
        class="wide pilot"
      />
    </section>
    <section class="panel" aria-labelledby="bring">
      <h2 id="bring">Attribute mapping</h2>
      <p class="quiet">
        An expression for each attribute produces its value from the source record.
        <template v-if="inbound">Attributes without an expression stay as the source sends them.</template>
        <template v-if="found.data.value.attributes.length">
          Available: <span class="mono">{{ found.data.value.attributes.join(', ') }}</span>.</template
        >
        <template v-else> {{ noAttributes }}</template>
      </p>
      <div v-for="(row, number) in form.attributes" :key="number" class="pair">
        <v-text-field v-model="row.attribute" label="Attribute" class="mono" spellcheck="false" />
        <ExpressionField
          v-model="row.expression"
          label="Expression"
          :source="source"
          :attribute="row.attribute"
          :names="found.data.value.attributes"
        />
        <v-btn
          size="small"
          variant="text"
          :aria-label="`Remove ${row.attribute}`"
          @click="form.attributes.splice(number, 1)"
          >Remove</v-btn
        >
      </div>
      <v-btn variant="outlined" size="small" @click="form.attributes.push({ attribute: '', expression: '' })"
        >Add attribute</v-btn
      >
      <v-textarea
        v-model="groupsFrom"
        label="Groups from user attributes, one expression per line"
        :placeholder="placeholder"
        hint="Each value is the name of a group. The user becomes a member of it."
        persistent-hint
        rows="1"
        auto-grow
        class="wide mono made"
        spellcheck="false"
      />
      <v-textarea
        v-model="gives"
        label="Groups for all users of this source, one per line"
        rows="1"
        auto-grow
        class="wide"
      />
    </section>
    <section class="panel" aria-labelledby="comes">
      <h2 id="comes">Preview</h2>
      <div class="row">
        <BusyButton variant="outlined" :busy="busy" @click="look">{{
          signIn ? 'Preview with the last sign-in' : 'Preview with all users'
        }}</BusyButton>
        <v-btn v-if="may('sources.change')" type="submit" color="primary">Save</v-btn>
        <span v-if="done" role="status">Saved. {{ applies }}</span>
      </div>
      <SignInResult v-if="planned" :planned="planned" />
      <PolicyPreview v-if="tried" :tried="tried" />
    </section>
    <PolicyStatus v-if="!signIn" :source="source" :detail="found.data.value" />
  </form>
</template>

<style scoped>
.wide {
  max-width: 640px;
  margin-bottom: 14px;
}
.made,
.pilot {
  margin-top: 16px;
}
.pair {
  display: grid;
  grid-template-columns: minmax(220px, 340px) 1fr auto;
  gap: 12px;
  align-items: start;
  margin-bottom: 12px;
}
@media (max-width: 700px) {
  .pair {
    grid-template-columns: 1fr;
  }
}
.panel + .panel {
  margin-top: 12px;
}
</style>
