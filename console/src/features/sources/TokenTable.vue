<script setup lang="ts">
// The SCIM tokens of a source; several can be active, so that one replaces another without a gap.
import { useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import FormDialog from '../../components/FormDialog.vue'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import SecretOnce from '../../components/SecretOnce.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

type Token = Schemas['ScimToken']
const props = defineProps<{ source: string }>()
const queries = useQueryClient()
const path = { key: props.source }
const making = ref(false)
const asking = ref(false)
const label = ref('')
const kinds = ref<'both' | 'users' | 'groups'>('both')
const access = ref<'write' | 'read'>('write')
const until = ref('')
const made = ref<Schemas['NewScimToken'] | null>(null)
const replaced = ref<Token | null>(null)
const revoking = ref<Token | null>(null)
const wrong = ref<unknown>(null)
const shown = ref<Token[]>([])
const opens = [
  { title: 'Users and groups', value: 'both' },
  { title: 'Users only', value: 'users' },
  { title: 'Groups only', value: 'groups' },
]
const may = [
  { title: 'Read and write', value: 'write' },
  { title: 'Read only', value: 'read' },
]

async function fetch(after: string | undefined, count: number) {
  const page = await answered(
    api.GET('/api/v1/sources/{key}/tokens', { params: { path, query: { after, count } } }),
  )
  shown.value = page.items
  return page
}
/** Whether the new token was used, so that the old one can be revoked. */
const arrived = computed(() => shown.value.find((each) => each.id === made.value?.id)?.last_used_at ?? null)

function begin(old: Token | null): void {
  replaced.value = old
  label.value = old ? `${old.label}, new` : ''
  kinds.value = (old?.kinds as 'both') ?? 'both'
  access.value = (old?.access as 'write') ?? 'write'
  until.value = ''
  wrong.value = null
  making.value = true
}
async function make(): Promise<void> {
  try {
    const expires = until.value ? `${until.value}T23:59:59Z` : null
    const body = { label: label.value, kinds: kinds.value, access: access.value, expires_at: expires }
    made.value = await answered(api.POST('/api/v1/sources/{key}/tokens', { params: { path }, body }))
    making.value = false
    await queries.invalidateQueries()
  } catch (problem) {
    wrong.value = problem
  }
}
async function revoke(): Promise<void> {
  try {
    const params = { path: { ...path, token_id: revoking.value?.id ?? '' } }
    await answered(api.DELETE('/api/v1/sources/{key}/tokens/{token_id}', { params }))
    if (revoking.value?.id === replaced.value?.id) replaced.value = null
    asking.value = false
    await queries.invalidateQueries()
  } catch (problem) {
    wrong.value = problem
  }
}
function ask(token: Token): void {
  revoking.value = token
  wrong.value = null
  asking.value = true
}
const status = (token: Token) =>
  token.revoked_at
    ? 'revoked'
    : token.expires_at && token.expires_at < new Date().toISOString()
      ? 'expired'
      : 'active'
</script>

<template>
  <section class="panel" aria-labelledby="tokens">
    <div class="row between">
      <h2 id="tokens">SCIM tokens</h2>
      <v-btn color="primary" @click="begin(null)">Create token</v-btn>
    </div>
    <SecretOnce v-if="made" :secret="made.token" name="SCIM token" />
    <div v-if="made && replaced" class="swap" role="status">
      <b>“{{ made.label }}” replaces “{{ replaced.label }}”.</b>
      <span v-if="!arrived">
        Enter the new token at the identity provider. Both tokens work until you revoke the old one.</span
      >
      <span v-else>
        The new token was used <TimeLabel :at="arrived" />.
        <v-btn size="small" variant="outlined" @click="ask(replaced)">Revoke old token</v-btn>
      </span>
    </div>
    <PagedTable
      :name="`tokens-${source}`"
      caption="SCIM tokens"
      :columns="['Token', 'Prefix', 'Scope', 'Created', 'Last used', 'Expires', 'Status', '']"
      :fetch="fetch"
      :about="made?.id"
      :refresh="4000"
    >
      <template #row="{ item }">
        <td>{{ item.label }}</td>
        <td class="mono">dravo_push_{{ item.prefix }}_</td>
        <td>
          {{ item.kinds === 'both' ? 'users and groups' : item.kinds === 'users' ? 'users' : 'groups'
          }}{{ item.access === 'read' ? ', reading only' : '' }}
        </td>
        <td>
          <TimeLabel :at="item.created_at" />
          <div v-if="item.created_by" class="quiet">by {{ item.created_by }}</div>
        </td>
        <td><TimeLabel :at="item.last_used_at" never="never" /></td>
        <td><TimeLabel :at="item.expires_at" never="no end" /></td>
        <td><StatusLabel :status="status(item)" /></td>
        <td>
          <div v-if="!item.revoked_at" class="row tight">
            <v-btn size="small" variant="outlined" @click="begin(item)">Rotate</v-btn>
            <v-btn size="small" variant="outlined" @click="ask(item)">Revoke</v-btn>
          </div>
        </td>
      </template>
      <template #empty>
        <EmptyState title="No tokens yet"
          >The identity provider needs a token to call Dravo. Dravo shows it once.</EmptyState
        >
      </template>
    </PagedTable>
    <FormDialog
      v-model="making"
      :title="replaced ? `Rotate token “${replaced.label}”` : 'Create SCIM token'"
      act="Create token"
      :wrong="wrong"
      @done="make"
    >
      <p v-if="replaced" class="quiet">The old token works until you revoke it.</p>
      <v-text-field v-model="label" label="Label" hint="For example, Provider 2031" />
      <v-select v-model="kinds" :items="opens" label="Resources" />
      <v-select v-model="access" :items="may" label="Access" />
      <v-text-field v-model="until" type="date" label="Expires at the end of (empty: never)" />
    </FormDialog>
    <FormDialog v-model="asking" title="Revoke token?" act="Revoke" :wrong="wrong" serious @done="revoke">
      <p>
        Requests with the token “{{ revoking?.label }}” will be rejected. It was last used
        <TimeLabel :at="revoking?.last_used_at ?? null" never="never" />. Users and groups stay as they are.
      </p>
    </FormDialog>
  </section>
</template>

<style scoped>
.between {
  justify-content: space-between;
}
.swap {
  padding: 9px 14px;
  margin-bottom: 10px;
  border-left: 4px solid rgb(var(--v-theme-primary));
  background: rgba(var(--v-theme-primary), 0.08);
  border-radius: 4px;
}
.tight {
  gap: 6px;
  flex-wrap: nowrap;
}
</style>
