<script setup lang="ts">
// The operators: create, disable and enable.
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useApplicationChoices } from '../../app/choices'
import { useSession } from '../../app/session'
import { inWords } from '../../app/words'
import FormDialog from '../../components/FormDialog.vue'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import SecretOnce from '../../components/SecretOnce.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const { session } = useSession()
const adding = ref(false)
const name = ref('')
const kinds = ['administrator', 'super_administrator', 'help_desk', 'auditor', 'application_owner'] as const
const kind = ref<(typeof kinds)[number]>('administrator')
const kindItems = kinds.map((each) => ({ title: inWords(each), value: each }))
const owned = ref<string[]>([])
const masked = ref(false)
const applications = useApplicationChoices()
/** The values of the new operator that its kind needs. */
const operator = computed(() => ({
  name: name.value,
  kind: kind.value,
  applications: kind.value === 'application_owner' ? owned.value : [],
  masked: (kind.value === 'help_desk' || kind.value === 'auditor') && masked.value,
}))
const password = ref('')
const whose = ref('')
const { wrong, attempt } = useAttempts()
const { wrong: outside, attempt: attemptOutside } = useAttempts()

const meaning = {
  administrator: 'Manages sources, applications, assignments, provisioning and settings.',
  super_administrator: 'Manages everything, operators too.',
  help_desk: 'Finds users, sees their access and why, and retries provisioning.',
  auditor: 'Reads and exports everything. Changes nothing.',
  application_owner: 'Sees and changes assignments of their own applications only.',
}

const addOperator = () =>
  attempt(async () => {
    const told = await answered(api.POST('/api/v1/operators', { body: operator.value }))
    password.value = told.password ?? ''
    whose.value = told.name
    adding.value = false
  })
const disable = (id: string) =>
  attemptOutside(() => answered(api.POST('/api/v1/operators/{id}/disable', { params: { path: { id } } })))
const resetFactor = (id: string) =>
  attemptOutside(() =>
    answered(api.POST('/api/v1/operators/{id}/second-factor/reset', { params: { path: { id } } })),
  )
const newPassword = (id: string, name: string) =>
  attemptOutside(async () => {
    const told = await answered(api.POST('/api/v1/operators/{id}/password', { params: { path: { id } } }))
    password.value = told.password ?? ''
    whose.value = name
  })
const operators = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/operators', { params: { query: { after, count } } }))
function comesIn(each: Schemas['Operator']): string {
  if (each.only_by_source) return 'source sign-in only'
  return each.second_factor ? 'password and second factor' : 'password only'
}
</script>

<template>
  <ErrorMessage :wrong="outside" />
  <section class="panel" aria-labelledby="operators">
    <div class="row between">
      <h2 id="operators">Operators</h2>
      <v-btn color="primary" @click="((adding = true), (wrong = null))">Create operator</v-btn>
    </div>
    <SecretOnce v-if="password" :secret="password" :name="`Password of ${whose}`" />
    <PagedTable
      name="operators"
      caption="Operators"
      :columns="['Name', 'Kind', 'Created', 'Status', '']"
      :fetch="operators"
    >
      <template #row="{ item }">
        <td>{{ item.name }}</td>
        <td>
          {{ inWords(item.kind) }}<template v-if="item.masked">, attributes masked</template>
          <div v-if="item.applications.length" class="quiet">{{ item.applications.join(', ') }}</div>
        </td>
        <td><TimeLabel :at="item.created_at" /></td>
        <td>
          <StatusLabel :status="item.disabled_at ? 'inactive' : 'active'" />
          <div class="quiet">{{ comesIn(item) }}</div>
        </td>
        <td>
          <v-btn v-if="!item.disabled_at" size="small" variant="outlined" @click="disable(item.id)"
            >Disable</v-btn
          >
          <v-btn
            v-if="!item.disabled_at && item.name !== session?.name"
            size="small"
            variant="text"
            @click="newPassword(item.id, item.name)"
            >Reset password</v-btn
          >
          <v-btn
            v-if="item.second_factor && item.name !== session?.name"
            size="small"
            variant="text"
            @click="resetFactor(item.id)"
            >Reset second factor</v-btn
          >
        </td>
      </template>
      <template #empty><EmptyState title="No operators">Create an operator.</EmptyState></template>
    </PagedTable>
  </section>
  <FormDialog v-model="adding" title="Create operator" act="Create" :wrong="wrong" @done="addOperator">
    <v-text-field v-model="name" label="Sign-in name" />
    <v-select v-model="kind" :items="kindItems" label="Kind" />
    <p class="quiet">{{ meaning[kind] }}</p>
    <v-autocomplete
      v-if="kind === 'application_owner'"
      v-model="owned"
      :items="applications"
      label="Applications"
      multiple
      chips
      closable-chips
    />
    <v-checkbox
      v-if="kind === 'help_desk' || kind === 'auditor'"
      v-model="masked"
      label="Mask user attributes"
    />
    <p class="quiet">Dravo generates a password and shows it once.</p>
  </FormDialog>
</template>

<style scoped>
.between {
  justify-content: space-between;
}
</style>
