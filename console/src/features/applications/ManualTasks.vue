<script setup lang="ts">
// Accounts of a tracked-only application to create, change or remove by hand.
import { mdiMagnify } from '@mdi/js'
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useWords } from '../../app/addressFilters'
import { told } from '../../app/attributeValues'
import { useMay } from '../../app/session'
import EmptyState from '../../components/EmptyState.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import PagedTable from '../../components/PagedTable.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import AccountListComparison from './AccountListComparison.vue'

type Task = Schemas['ManualTask']
const props = defineProps<{ application: Schemas['Application'] }>()
const may = useMay()
const path = { key: props.application.key }
const actions = ['create', 'change', 'deactivate', 'delete'] as const
const { typed, words } = useWords()
const action = ref<(typeof actions)[number] | null>(null)
const done = ref(false)
const about = computed(() => ({
  status: done.value ? ('done' as const) : ('open' as const),
  action: done.value ? undefined : (action.value ?? undefined),
  q: words.value,
}))
/** The listed tasks by ID: a mark names the version that the operator saw. */
const listed = ref(new Map<string, Task>())
const onPage = ref<string[]>([])
async function fetch(after: string | undefined, count: number) {
  const params = { path, query: { after, count, ...about.value } }
  const page = await answered(api.GET('/api/v1/applications/{key}/manual-tasks', { params }))
  for (const each of page.items) listed.value.set(each.id, each)
  onPage.value = page.items.map((each) => each.id)
  return page
}
const chosen = ref<string[]>([])
watch(about, () => (chosen.value = []))
const { wrong, busy, attempt } = useAttempts()
async function mark(): Promise<void> {
  const tasks = chosen.value
    .map((id) => listed.value.get(id))
    .filter((each) => each !== undefined)
    .map(({ id, version }) => ({ id, version }))
  const request = () =>
    answered(api.POST('/api/v1/applications/{key}/manual-tasks/done', { params: { path }, body: { tasks } }))
  if (await attempt(request)) chosen.value = []
}
async function reopen(): Promise<void> {
  const body = { tasks: chosen.value }
  const request = () =>
    answered(api.POST('/api/v1/applications/{key}/manual-tasks/open', { params: { path }, body }))
  if (await attempt(request)) chosen.value = []
}
const address = computed(() => {
  const query = action.value ? `?action=${action.value}` : ''
  return `/api/v1/applications/${encodeURIComponent(props.application.key)}/manual-tasks/export${query}`
})
const comparing = ref(false)
</script>

<template>
  <p class="quiet">
    {{ application.label }} is tracked only. Make these changes in the application, then mark them as done.
  </p>
  <ErrorMessage :wrong="wrong" />
  <div class="row filters">
    <v-text-field
      v-model="typed"
      :prepend-inner-icon="mdiMagnify"
      label="Find a user"
      clearable
      class="words"
    />
    <v-select
      v-model="action"
      :items="[...actions]"
      label="Action"
      :disabled="done"
      clearable
      class="narrow"
    />
    <v-checkbox v-model="done" label="Done" />
    <template v-if="may('accounts.change')">
      <v-btn v-if="!done" color="primary" :disabled="!chosen.length || busy" @click="mark">
        Mark {{ chosen.length || '' }} as done
      </v-btn>
      <v-btn v-else variant="outlined" :disabled="!chosen.length || busy" @click="reopen">
        Reopen {{ chosen.length || '' }}
      </v-btn>
    </template>
    <v-btn variant="text" :disabled="!onPage.length" @click="chosen = [...onPage]">Select all</v-btn>
    <v-btn v-if="!done" variant="text" :href="address">Download CSV</v-btn>
    <v-btn v-if="may('accounts.change')" variant="text" @click="comparing = true">Compare with a list</v-btn>
  </div>
  <PagedTable
    :name="`manual-tasks-${application.key}`"
    caption="Manual tasks"
    :columns="['Select', 'Action', 'User', 'User name', 'Email', 'Account', done ? 'Done' : 'Since']"
    :fetch="fetch"
    :about="about"
    :refresh="5000"
  >
    <template #row="{ item }">
      <td>
        <v-checkbox-btn
          v-model="chosen"
          :value="item.id"
          :aria-label="`Select ${item.action ?? 'task'}, ${item.user.display_name}`"
        />
      </td>
      <td><StatusLabel :status="item.action ?? 'done'" /></td>
      <td>
        <router-link :to="`/users/${item.user.id}`">{{ item.user.display_name }}</router-link>
      </td>
      <td class="mono">{{ item.user.user_name }}</td>
      <td>{{ item.email }}</td>
      <td>
        <template v-if="item.changes.length">
          <div v-for="each in item.changes" :key="each.attribute">
            <b>{{ each.attribute }}</b>: {{ told(each.before) }} → {{ told(each.after) }}
          </div>
        </template>
        <template v-else>{{ item.roles.join(', ') || item.desired_state }}</template>
        <div v-if="item.plan" class="quiet">plan {{ item.plan }}</div>
      </td>
      <td>
        <TimeLabel :at="item.done_at ?? item.since" />
        <div v-if="item.message" class="quiet">{{ item.message }}</div>
      </td>
    </template>
    <template #empty>
      <EmptyState :title="done ? 'Nothing was marked as done' : 'Nothing to do by hand'">
        A change of access that concerns an account of this application appears here.
      </EmptyState>
    </template>
  </PagedTable>
  <AccountListComparison v-model="comparing" :application="application" />
</template>

<style scoped>
.narrow {
  flex: 0 1 160px;
}
</style>
