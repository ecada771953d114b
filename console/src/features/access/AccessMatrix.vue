<script setup lang="ts">
// The access matrix: users and applications, now or at the end of a past day; filters are in the URL.
import { mdiFileDownloadOutline, mdiMagnify } from '@mdi/js'
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useApplicationChoices } from '../../app/choices'
import { useAddressFilter, useWords } from '../../app/addressFilters'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import StatusLabel from '../../components/StatusLabel.vue'

const { typed, words } = useWords()
const application = useAddressFilter('application')
const only = useAddressFilter('only')
const at = useAddressFilter('at')
// The role of the application in the URL.
const role = useAddressFilter('role')
const choices = useApplicationChoices()
const narrowed = [
  { title: 'assigned directly only', value: 'direct_only' },
  { title: 'inactive_assigned', value: 'inactive_assigned' },
  { title: 'with the highest role', value: 'highest_role' },
]
type Only = 'direct_only' | 'inactive_assigned' | 'highest_role'
const view = computed(() => ({
  q: words.value,
  application: application.value,
  role: application.value ? role.value : undefined,
  only: only.value as Only | undefined,
  at: at.value,
}))
const applications = ref<Schemas['KeyAndLabel'][]>([])
async function fetch(after: string | undefined, count: number) {
  const page = await answered(
    api.GET('/api/v1/access/matrix', { params: { query: { after, count, ...view.value } } }),
  )
  applications.value = page.applications
  return page
}
watch(application, () => {
  applications.value = []
  role.value = undefined
})
const columns = computed(() => ['User', 'Status', ...applications.value.map((each) => each.label)])

/** The URL of the export of all shown rows. */
const address = (form: 'csv' | 'json') => {
  const query = new URLSearchParams({ form })
  for (const [name, value] of Object.entries(view.value)) if (value) query.set(name, value)
  return `/api/v1/access/matrix/export?${query}`
}
</script>

<template>
  <div class="row filters">
    <v-text-field v-model="typed" :prepend-inner-icon="mdiMagnify" label="User" clearable class="words" />
    <v-select v-model="application" :items="choices" label="Application" clearable class="narrow" />
    <v-chip v-if="application && role" closable class="chip" @click:close="role = undefined"
      >role {{ role }}</v-chip
    >
    <v-select v-model="only" :items="narrowed" label="Filter" clearable class="narrow" />
    <v-text-field
      v-model="at"
      type="date"
      label="Access at the end of"
      clearable
      class="narrow"
      persistent-placeholder
    />
    <span class="files">
      <v-btn variant="outlined" :prepend-icon="mdiFileDownloadOutline" :href="address('csv')" download
        >CSV</v-btn
      >
      <v-btn variant="text" :href="address('json')" download>JSON</v-btn>
    </span>
  </div>
  <PagedTable
    name="matrix"
    caption="Access matrix: users against applications"
    :columns="columns"
    :fetch="fetch"
    :about="view"
    :refresh="at ? 0 : 8000"
  >
    <template #row="{ item }">
      <td>
        <router-link :to="`/users/${item.id}`">{{ item.display_name }}</router-link>
        <div class="mono quiet">{{ item.user_name }}</div>
      </td>
      <td><StatusLabel :status="item.status" /></td>
      <td v-for="each in applications" :key="each.key">
        <div v-for="held in item.roles[each.key]" :key="held">{{ held }}</div>
        <span v-if="!item.roles[each.key]" class="quiet">·</span>
      </td>
    </template>
    <template #empty>
      <EmptyState title="No matching access">Remove a filter, or map a group to a role.</EmptyState>
    </template>
  </PagedTable>
</template>

<style scoped>
.files {
  white-space: nowrap;
}
</style>
