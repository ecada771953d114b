<script setup lang="ts">
// The SCIM requests of a source with their responses and effects.
import { mdiMagnify } from '@mdi/js'
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAddressFilter, useWords } from '../../app/addressFilters'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ source: string }>()
const { typed, words } = useWords()
const outcome = useAddressFilter('outcome')
const about = computed(() => ({
  q: words.value,
  outcome: outcome.value as 'refused' | 'changed' | 'read' | undefined,
}))
const fetch = (after: string | undefined, count: number) =>
  answered(
    api.GET('/api/v1/sources/{key}/requests', {
      params: { path: { key: props.source }, query: { after, count, ...about.value } },
    }),
  )
const opened = ref<Schemas['ScimRequestDetail'] | null>(null)
const wrong = ref<unknown>(null)
async function open(id: string): Promise<void> {
  if (opened.value?.id === id) {
    opened.value = null
    return
  }
  try {
    opened.value = await answered(
      api.GET('/api/v1/sources/{key}/requests/{id}', { params: { path: { key: props.source, id } } }),
    )
  } catch (problem) {
    wrong.value = problem
  }
}
function pretty(body: string): string {
  try {
    return JSON.stringify(JSON.parse(body), null, 2)
  } catch {
    return body
  }
}
</script>

<template>
  <div class="row filters">
    <v-text-field
      v-model="typed"
      :prepend-inner-icon="mdiMagnify"
      label="Path, outcome or body"
      clearable
      class="words"
    />
    <v-select
      v-model="outcome"
      :items="['refused', 'changed', 'read']"
      label="Outcome"
      clearable
      class="narrow"
    />
  </div>
  <ErrorMessage :wrong="wrong" />
  <PagedTable
    :name="`requests-${source}`"
    caption="Requests"
    :columns="['Time', 'Request', 'Response', 'Result', '']"
    :fetch="fetch"
    :about="about"
    :refresh="4000"
    :count="25"
  >
    <template #row="{ item }">
      <td class="when"><TimeLabel :at="item.at" /></td>
      <td class="mono path">
        <b>{{ item.method }}</b> {{ item.path }}
        <div v-if="item.query" class="quiet">{{ decodeURIComponent(item.query.replace(/\+/g, ' ')) }}</div>
      </td>
      <td>
        <b :class="{ refused: item.status >= 400 }">{{ item.status }}</b>
        <div class="quiet">{{ item.milliseconds }} ms</div>
      </td>
      <td class="did">
        <template v-if="item.subject">
          <router-link :to="`/${item.subject.kind === 'user' ? 'users' : 'groups'}/${item.subject.id}`">{{
            item.outcome
          }}</router-link>
        </template>
        <template v-else>{{ item.outcome }}</template>
        <ul v-if="item.users.length" class="led">
          <li v-for="user in item.users.slice(0, 5)" :key="user.id">
            <router-link :to="`/users/${user.id}`">{{ user.name }}</router-link>
            <template v-for="role in user.gained" :key="`+${role}`"> Gained {{ role }}.</template>
            <template v-for="role in user.lost" :key="`-${role}`"> Lost {{ role }}.</template>
            <template v-for="account in user.accounts" :key="account[0]">
              Account in {{ account[0] }}: {{ account[1] }}.</template
            >
          </li>
          <li v-if="item.users.length + item.more > 5">
            and {{ item.users.length + item.more - 5 }} more users
          </li>
        </ul>
        <pre v-if="opened?.id === item.id && opened.body" class="body">{{ pretty(opened.body) }}</pre>
        <div v-if="opened?.id === item.id">
          <div v-for="manner in item.quirks" :key="manner" class="quiet">
            Deviation from the standard: {{ manner }}
          </div>
          <div v-if="!opened.body" class="quiet">No body.</div>
        </div>
      </td>
      <td>
        <v-btn size="small" variant="text" :aria-expanded="opened?.id === item.id" @click="open(item.id)">
          {{ opened?.id === item.id ? 'Close' : 'Open' }}
        </v-btn>
      </td>
    </template>
    <template #empty>
      <EmptyState title="No requests">Requests from this source appear here with their results.</EmptyState>
    </template>
  </PagedTable>
</template>

<style scoped>
.when {
  white-space: nowrap;
}
.path {
  max-width: 300px;
  overflow-wrap: anywhere;
}
.did {
  min-width: 260px;
}
.refused {
  color: rgb(var(--v-theme-failed));
}
.led {
  margin: 2px 0 0;
  padding-left: 18px;
}
.body {
  max-height: 320px;
  max-width: 560px;
  overflow: auto;
  padding: 8px 10px;
  margin: 6px 0;
  border: 1px solid rgb(var(--v-theme-line));
  border-radius: 4px;
  font-size: 13px;
}
</style>
