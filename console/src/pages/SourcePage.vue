<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import { answered, api } from '../api/client'
import AskDialog from '../components/AskDialog.vue'
import EmptyState from '../components/EmptyState.vue'
import ExchangeSheet from '../components/ExchangeSheet.vue'
import PagedTable from '../components/PagedTable.vue'
import ProblemNote from '../components/ProblemNote.vue'
import SecretOnce from '../components/SecretOnce.vue'
import StateMark from '../components/StateMark.vue'
import TimeOf from '../components/TimeOf.vue'

const props = defineProps<{ id: string }>()
const queries = useQueryClient()
const path = { key: props.id }
const source = useQuery({
  queryKey: ['sources', props.id],
  queryFn: () => answered(api.GET('/api/v1/sources/{key}', { params: { path } })),
  refetchInterval: 5000,
})
const sheet = useQuery({
  queryKey: ['sources', props.id, 'sheet'],
  queryFn: () => answered(api.GET('/api/v1/sources/{key}/sheet', { params: { path } })),
  refetchInterval: 3000,
})
const making = ref(false)
const label = ref('')
const made = ref('')
const wrong = ref<unknown>(null)

async function make(): Promise<void> {
  try {
    const call = api.POST('/api/v1/sources/{key}/tokens', { params: { path }, body: { label: label.value } })
    made.value = (await answered(call)).token
    making.value = false
    label.value = ''
    await queries.invalidateQueries()
  } catch (problem) {
    wrong.value = problem
  }
}

const revoking = ref<string | null>(null)
const asking = ref(false)

async function revoke(): Promise<void> {
  try {
    const params = { path: { key: props.id, token_id: revoking.value ?? '' } }
    await answered(api.DELETE('/api/v1/sources/{key}/tokens/{token_id}', { params }))
    asking.value = false
    await queries.invalidateQueries()
  } catch (problem) {
    wrong.value = problem
  }
}
const fetch = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/sources/{key}/tokens', { params: { path, query: { after, count } } }))
</script>

<template>
  <div class="page">
    <ProblemNote :wrong="source.error.value" />
    <template v-if="source.data.value">
      <div class="head">
        <div class="grow">
          <h1>{{ source.data.value.label }}</h1>
          <p class="lead">
            A source that pushes ·
            <router-link to="/people">{{ source.data.value.people.toLocaleString('en') }} people</router-link> ·
            <router-link :to="`/groups?source=${id}`"
              >{{ source.data.value.groups.toLocaleString('en') }} groups</router-link
            >
            · last call <TimeOf :at="source.data.value.last_call_at" />
          </p>
        </div>
        <v-btn color="primary" @click="((making = true), (wrong = null))">Make a token</v-btn>
      </div>
      <SecretOnce v-if="made" :secret="made" name="Push token" />
      <ExchangeSheet v-if="sheet.data.value" :sheet="sheet.data.value" />
      <section class="panel" aria-labelledby="tokens">
        <h2 id="tokens">Tokens</h2>
        <PagedTable
          :name="`tokens-${id}`"
          caption="Push tokens"
          :columns="['Token', 'Begins with', 'Made', 'Last used', 'State', '']"
          :fetch="fetch"
          :about="made"
          :refresh="5000"
        >
          <template #row="{ item }">
            <td>{{ item.label }}</td>
            <td class="mono">dravo_push_{{ item.prefix }}_</td>
            <td><TimeOf :at="item.created_at" /></td>
            <td><TimeOf :at="item.last_used_at" /></td>
            <td>
              <span v-if="item.revoked_at"><StateMark state="revoked" /> <TimeOf :at="item.revoked_at" /></span>
              <span v-else><StateMark state="active" /></span>
            </td>
            <td>
              <v-btn
                v-if="!item.revoked_at"
                size="small"
                variant="outlined"
                @click="((revoking = item.id), (asking = true), (wrong = null))"
              >
                Revoke
              </v-btn>
            </td>
          </template>
          <template #empty>
            <EmptyState title="No token yet"
              >The other side needs one to call here. It is shown once, when it is made.</EmptyState
            >
          </template>
        </PagedTable>
      </section>
    </template>
    <AskDialog v-model="making" title="Make a push token" act="Make the token" :wrong="wrong" @done="make">
      <v-text-field v-model="label" label="What it is for" hint="Such as Provider, 2031" />
    </AskDialog>
    <AskDialog v-model="asking" title="Revoke this token?" act="Revoke it" :wrong="wrong" grave @done="revoke">
      <p>Whoever uses it is turned away from now on. People and groups stay as they are.</p>
    </AskDialog>
  </div>
</template>
