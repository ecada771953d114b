<script setup lang="ts">
// Push tokens: several at once, so that one is changed for another without a gap.
import { useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import FormDialog from '../../components/FormDialog.vue'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import SecretOnce from '../../components/SecretOnce.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

type Token = Schemas['PushToken']
const props = defineProps<{ source: string }>()
const queries = useQueryClient()
const path = { key: props.source }
const making = ref(false)
const asking = ref(false)
const label = ref('')
const kinds = ref<'both' | 'users' | 'groups'>('both')
const access = ref<'write' | 'read'>('write')
const until = ref('')
const made = ref<Schemas['NewToken'] | null>(null)
const replaced = ref<Token | null>(null)
const revoking = ref<Token | null>(null)
const wrong = ref<unknown>(null)
const shown = ref<Token[]>([])
const opens = [
  { title: 'People and groups', value: 'both' },
  { title: 'People only', value: 'users' },
  { title: 'Groups only', value: 'groups' },
]
const may = [
  { title: 'Read and write', value: 'write' },
  { title: 'Read only', value: 'read' },
]

async function fetch(after: string | undefined, count: number) {
  const page = await answered(api.GET('/api/v1/sources/{key}/tokens', { params: { path, query: { after, count } } }))
  shown.value = page.items
  return page
}
/** Whether the new token was seen at work, so that the one it replaces may go. */
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
const state = (token: Token) =>
  token.revoked_at ? 'revoked' : token.expires_at && token.expires_at < new Date().toISOString() ? 'expired' : 'active'
</script>

<template>
  <section class="panel" aria-labelledby="tokens">
    <div class="row between">
      <h2 id="tokens">Tokens</h2>
      <v-btn color="primary" @click="begin(null)">Make a token</v-btn>
    </div>
    <SecretOnce v-if="made" :secret="made.token" name="Push token" />
    <div v-if="made && replaced" class="swap" role="status">
      <b>Changing “{{ replaced.label }}” for “{{ made.label }}”.</b>
      <span v-if="!arrived"> Paste the new one at the other side. Both are good until you revoke the old one.</span>
      <span v-else>
        The new one was used <TimeLabel :at="arrived" />.
        <v-btn size="small" variant="outlined" @click="ask(replaced)">Revoke the old one</v-btn>
      </span>
    </div>
    <PagedTable
      :name="`tokens-${source}`"
      caption="Push tokens"
      :columns="['Token', 'Begins with', 'Opens', 'Made', 'Last used', 'Good until', 'State', '']"
      :fetch="fetch"
      :about="made?.id"
      :refresh="4000"
    >
      <template #row="{ item }">
        <td>{{ item.label }}</td>
        <td class="mono">dravo_push_{{ item.prefix }}_</td>
        <td>
          {{ item.kinds === 'both' ? 'people and groups' : item.kinds === 'users' ? 'people' : 'groups'
          }}{{ item.access === 'read' ? ', reading only' : '' }}
        </td>
        <td><TimeLabel :at="item.created_at" /></td>
        <td><TimeLabel :at="item.last_used_at" never="never" /></td>
        <td><TimeLabel :at="item.expires_at" never="no end" /></td>
        <td><StatusLabel :state="state(item)" /></td>
        <td>
          <div v-if="!item.revoked_at" class="row tight">
            <v-btn size="small" variant="outlined" @click="begin(item)">Change</v-btn>
            <v-btn size="small" variant="outlined" @click="ask(item)">Revoke</v-btn>
          </div>
        </td>
      </template>
      <template #empty>
        <EmptyState title="No token yet"
          >The other side needs one to call here. It is shown once, when it is made.</EmptyState
        >
      </template>
    </PagedTable>
    <FormDialog
      v-model="making"
      :title="replaced ? `A new token in place of “${replaced.label}”` : 'Make a push token'"
      act="Make the token"
      :wrong="wrong"
      @done="make"
    >
      <p v-if="replaced" class="quiet">The old one stays good until you revoke it, so nothing is turned away.</p>
      <v-text-field v-model="label" label="What it is for" hint="Such as Provider, 2031" />
      <v-select v-model="kinds" :items="opens" label="Opens" />
      <v-select v-model="access" :items="may" label="May" />
      <v-text-field v-model="until" type="date" label="Good until the end of (empty: until it is revoked)" />
    </FormDialog>
    <FormDialog v-model="asking" title="Revoke this token?" act="Revoke it" :wrong="wrong" grave @done="revoke">
      <p>
        Whoever uses “{{ revoking?.label }}” is turned away from now on; it was last used
        <TimeLabel :at="revoking?.last_used_at ?? null" never="never" />. People and groups stay as they are.
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
