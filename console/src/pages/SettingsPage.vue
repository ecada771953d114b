<script setup lang="ts">
import { computed, ref } from 'vue'
import { answered, api } from '../api/client'
import AskDialog from '../components/AskDialog.vue'
import EmptyState from '../components/EmptyState.vue'
import HouseSettings from '../components/HouseSettings.vue'
import PagedTable from '../components/PagedTable.vue'
import ProblemNote from '../components/ProblemNote.vue'
import SecondFactor from '../components/SecondFactor.vue'
import SecretOnce from '../components/SecretOnce.vue'
import StateMark from '../components/StateMark.vue'
import TimeOf from '../components/TimeOf.vue'
import { useAttempts } from '../app/attempts'
import { useApplicationChoices } from '../app/choices'
import { useSession } from '../app/session'

const { session } = useSession()
const making = ref(false)
const label = ref('')
const scope = ref<'read' | 'write'>('read')
const made = ref('')
const adding = ref(false)
const name = ref('')
const kinds = ['administrator', 'chief', 'help desk', 'auditor', 'application owner'] as const
const kind = ref<(typeof kinds)[number]>('administrator')
const owned = ref<string[]>([])
const masked = ref(false)
const applications = useApplicationChoices()
/** What is said of the new operator; only what fits the kind. */
const operator = computed(() => ({
  name: name.value,
  kind: kind.value,
  applications: kind.value === 'application owner' ? owned.value : [],
  masked: (kind.value === 'help desk' || kind.value === 'auditor') && masked.value,
}))
const password = ref('')
const { wrong, attempt } = useAttempts()
const { wrong: outside, attempt: attemptOutside } = useAttempts()

const meaning = {
  administrator: 'Sources, applications, assignments, deliveries, settings.',
  chief: 'Everything, operators too.',
  'help desk': 'Finds people, sees what they have and why, sends one account again.',
  auditor: 'Reads and exports everything; changes nothing.',
  'application owner': 'Sees and changes the assignments of their own applications only.',
}

const makeToken = () =>
  attempt(async () => {
    made.value = (
      await answered(api.POST('/api/v1/tokens', { body: { label: label.value, scope: scope.value } }))
    ).token
    making.value = false
  })
const revoke = (id: string) =>
  attemptOutside(() => answered(api.DELETE('/api/v1/tokens/{id}', { params: { path: { id } } })))
const addOperator = () =>
  attempt(async () => {
    const told = await answered(api.POST('/api/v1/operators', { body: operator.value }))
    password.value = told.password ?? ''
    adding.value = false
  })
const disable = (id: string) =>
  attemptOutside(() => answered(api.POST('/api/v1/operators/{id}/disable', { params: { path: { id } } })))
const resetFactor = (id: string) =>
  attemptOutside(() => answered(api.POST('/api/v1/operators/{id}/second-factor/reset', { params: { path: { id } } })))
const tokens = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/tokens', { params: { query: { after, count } } }))
const operators = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/operators', { params: { query: { after, count } } }))
</script>

<template>
  <div class="page">
    <div class="head">
      <div class="grow">
        <h1>Settings</h1>
        <p class="lead">Your tokens for programs, and who may run Dravo. <a href="/api/v1/">The API's page</a></p>
      </div>
    </div>
    <ProblemNote :wrong="outside" />
    <section class="panel" aria-labelledby="tokens">
      <div class="row between">
        <h2 id="tokens">Your API tokens</h2>
        <v-btn color="primary" @click="((making = true), (wrong = null))">Make a token</v-btn>
      </div>
      <SecretOnce v-if="made" :secret="made" name="API token" />
      <PagedTable
        name="api-tokens"
        caption="API tokens"
        :columns="['Token', 'Begins with', 'May', 'Made', 'Last used', 'State', '']"
        :fetch="tokens"
      >
        <template #row="{ item }">
          <td>{{ item.label }}</td>
          <td class="mono">dravo_api_{{ item.prefix }}_</td>
          <td>{{ item.scope }}</td>
          <td><TimeOf :at="item.created_at" /></td>
          <td><TimeOf :at="item.last_used_at" /></td>
          <td><StateMark :state="item.revoked_at ? 'revoked' : 'active'" /></td>
          <td>
            <v-btn v-if="!item.revoked_at" size="small" variant="outlined" @click="revoke(item.id)">Revoke</v-btn>
          </td>
        </template>
        <template #empty
          ><EmptyState title="No token">Programs and the command line use one to call the API.</EmptyState></template
        >
      </PagedTable>
    </section>
    <SecondFactor class="factor" />
    <section v-if="session?.permissions.includes('operators.read')" class="panel" aria-labelledby="operators">
      <div class="row between">
        <h2 id="operators">Operators</h2>
        <v-btn color="primary" @click="((adding = true), (wrong = null))">Add an operator</v-btn>
      </div>
      <SecretOnce v-if="password" :secret="password" :name="`Password of ${name}`" />
      <PagedTable
        name="operators"
        caption="Operators"
        :columns="['Name', 'Kind', 'Since', 'State', '']"
        :fetch="operators"
      >
        <template #row="{ item }">
          <td>{{ item.name }}</td>
          <td>
            {{ item.kind }}<template v-if="item.masked">, masked</template>
            <div v-if="item.applications.length" class="quiet">{{ item.applications.join(', ') }}</div>
          </td>
          <td><TimeOf :at="item.created_at" /></td>
          <td>
            <StateMark :state="item.disabled_at ? 'inactive' : 'active'" />
            <div class="quiet">{{ item.second_factor ? 'with a second factor' : 'password alone' }}</div>
          </td>
          <td>
            <v-btn v-if="!item.disabled_at" size="small" variant="outlined" @click="disable(item.id)">Shut out</v-btn>
            <v-btn
              v-if="item.second_factor && item.name !== session?.name"
              size="small"
              variant="text"
              @click="resetFactor(item.id)"
              >Reset the second factor</v-btn
            >
          </td>
        </template>
        <template #empty><EmptyState title="No operator">Add one.</EmptyState></template>
      </PagedTable>
    </section>
    <HouseSettings :changeable="session?.permissions.includes('settings.change')" />
    <AskDialog v-model="making" title="Make an API token" act="Make the token" :wrong="wrong" @done="makeToken">
      <v-text-field v-model="label" label="What it is for" />
      <v-select v-model="scope" :items="['read', 'write']" label="May" />
    </AskDialog>
    <AskDialog v-model="adding" title="Add an operator" act="Add the operator" :wrong="wrong" @done="addOperator">
      <v-text-field v-model="name" label="Name to sign in with" />
      <v-select v-model="kind" :items="kinds" label="Kind" />
      <p class="quiet">{{ meaning[kind] }}</p>
      <v-autocomplete
        v-if="kind === 'application owner'"
        v-model="owned"
        :items="applications"
        label="Applications"
        multiple
        chips
        closable-chips
      />
      <v-checkbox
        v-if="kind === 'help desk' || kind === 'auditor'"
        v-model="masked"
        label="People's attributes are masked"
      />
      <p class="quiet">A password is made and shown once.</p>
    </AskDialog>
  </div>
</template>

<style scoped>
.factor {
  margin: 12px 0;
}
.between {
  justify-content: space-between;
}
</style>
