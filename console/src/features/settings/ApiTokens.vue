<script setup lang="ts">
// API tokens for programs: your own, created and shown once; or those of all operators, to revoke.
import { ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useSession } from '../../app/session'
import FormDialog from '../../components/FormDialog.vue'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import SecretOnce from '../../components/SecretOnce.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ whose: 'own' | 'all' }>()
const { session } = useSession()
const making = ref(false)
const label = ref('')
const scope = ref<'read' | 'write'>('read')
const until = ref('')
const permissions = ref<string[]>([])
const made = ref('')
const { wrong, attempt } = useAttempts()
const { wrong: outside, attempt: attemptOutside } = useAttempts()
function begin(): void {
  label.value = until.value = ''
  permissions.value = []
  wrong.value = null
  making.value = true
}
const makeToken = () =>
  attempt(async () => {
    const body = {
      label: label.value,
      scope: scope.value,
      expires_at: until.value ? `${until.value}T23:59:59Z` : null,
      permissions: permissions.value.length ? permissions.value : null,
    }
    made.value = (await answered(api.POST('/api/v1/tokens', { body }))).token
    making.value = false
  })
const revoke = (id: string) =>
  attemptOutside(() => answered(api.DELETE('/api/v1/tokens/{id}', { params: { path: { id } } })))
const tokens = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/tokens', { params: { query: { after, count, whose: props.whose } } }))
const status = (token: Schemas['ApiToken']) =>
  token.revoked_at
    ? 'revoked'
    : token.expires_at && token.expires_at < new Date().toISOString()
      ? 'expired'
      : 'active'
const columns = [
  ...(props.whose === 'all' ? ['Operator'] : []),
  'Token',
  'Prefix',
  'Scope',
  'Created',
  'Last used',
  'Expires',
  'Status',
  '',
]
</script>

<template>
  <ErrorMessage :wrong="outside" />
  <section class="panel" :aria-labelledby="`${whose}-tokens`">
    <div class="row between">
      <h2 :id="`${whose}-tokens`">
        {{ whose === 'all' ? 'API tokens of all operators' : 'Your API tokens' }}
      </h2>
      <v-btn v-if="whose === 'own'" color="primary" @click="begin">Create token</v-btn>
    </div>
    <SecretOnce v-if="made" :secret="made" name="API token" />
    <PagedTable
      :name="`api-tokens-${whose}`"
      :caption="whose === 'all' ? 'API tokens of all operators' : 'API tokens'"
      :columns="columns"
      :fetch="tokens"
    >
      <template #row="{ item }">
        <td v-if="whose === 'all'">{{ item.operator.name }}</td>
        <td>{{ item.label }}</td>
        <td class="mono">dravo_api_{{ item.prefix }}_</td>
        <td>
          {{ item.scope }}
          <div v-if="item.permissions" class="quiet">only {{ item.permissions.join(', ') }}</div>
        </td>
        <td><TimeLabel :at="item.created_at" /></td>
        <td><TimeLabel :at="item.last_used_at" never="never" /></td>
        <td><TimeLabel :at="item.expires_at" never="never" /></td>
        <td><StatusLabel :status="status(item)" /></td>
        <td>
          <v-btn v-if="!item.revoked_at" size="small" variant="outlined" @click="revoke(item.id)"
            >Revoke</v-btn
          >
        </td>
      </template>
      <template #empty
        ><EmptyState title="No tokens"
          >Programs and the command line call the API with a token.</EmptyState
        ></template
      >
    </PagedTable>
  </section>
  <FormDialog v-model="making" title="Create API token" act="Create token" :wrong="wrong" @done="makeToken">
    <v-text-field v-model="label" label="Label" hint="The purpose of the token, such as Nightly report" />
    <v-select v-model="scope" :items="['read', 'write']" label="Scope" />
    <v-text-field v-model="until" type="date" label="Expires at the end of (empty: never)" />
    <v-autocomplete
      v-model="permissions"
      :items="session?.permissions ?? []"
      label="Permissions (empty: all of yours)"
      multiple
      chips
      closable-chips
    />
  </FormDialog>
</template>

<style scoped>
.between {
  justify-content: space-between;
}
</style>
