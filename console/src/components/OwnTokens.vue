<script setup lang="ts">
// One's own API tokens, for programs: made, shown once, revoked.
import { ref } from 'vue'
import { answered, api } from '../api/client'
import { useAttempts } from '../app/attempts'
import AskDialog from './AskDialog.vue'
import EmptyState from './EmptyState.vue'
import PagedTable from './PagedTable.vue'
import ProblemNote from './ProblemNote.vue'
import SecretOnce from './SecretOnce.vue'
import StateMark from './StateMark.vue'
import TimeOf from './TimeOf.vue'

const making = ref(false)
const label = ref('')
const scope = ref<'read' | 'write'>('read')
const made = ref('')
const { wrong, attempt } = useAttempts()
const { wrong: outside, attempt: attemptOutside } = useAttempts()
const makeToken = () =>
  attempt(async () => {
    made.value = (
      await answered(api.POST('/api/v1/tokens', { body: { label: label.value, scope: scope.value } }))
    ).token
    making.value = false
  })
const revoke = (id: string) =>
  attemptOutside(() => answered(api.DELETE('/api/v1/tokens/{id}', { params: { path: { id } } })))
const tokens = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/tokens', { params: { query: { after, count } } }))
</script>

<template>
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
  <AskDialog v-model="making" title="Make an API token" act="Make the token" :wrong="wrong" @done="makeToken">
    <v-text-field v-model="label" label="What it is for" />
    <v-select v-model="scope" :items="['read', 'write']" label="May" />
  </AskDialog>
</template>

<style scoped>
.between {
  justify-content: space-between;
}
</style>
