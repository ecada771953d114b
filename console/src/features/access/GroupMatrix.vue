<script setup lang="ts">
// Groups and the roles they assign in each application.
import { mdiMagnify } from '@mdi/js'
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useApplicationChoices, useSourceChoices } from '../../app/choices'
import { useAddressFilter, useWords } from '../../app/addressFilters'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'

const { typed, words } = useWords()
const application = useAddressFilter('application')
const source = useAddressFilter('source')
const applicationChoices = useApplicationChoices()
const sourceChoices = useSourceChoices()
const about = computed(() => ({ q: words.value, application: application.value, source: source.value }))
const applications = ref<Schemas['KeyAndLabel'][]>([])
async function fetch(after: string | undefined, count: number) {
  const page = await answered(
    api.GET('/api/v1/access/matrix/groups', { params: { query: { after, count, ...about.value } } }),
  )
  applications.value = page.applications
  return page
}
const columns = computed(() => ['Group', 'Members', ...applications.value.map((each) => each.label)])
</script>

<template>
  <div class="row filters">
    <v-text-field v-model="typed" :prepend-inner-icon="mdiMagnify" label="Group" clearable class="words" />
    <v-select v-model="source" :items="sourceChoices" label="Source" clearable class="narrow" />
    <v-select
      v-model="application"
      :items="applicationChoices"
      label="Application"
      clearable
      class="narrow"
    />
  </div>
  <PagedTable
    name="matrix-of-groups"
    caption="Group matrix: groups against applications"
    :columns="columns"
    :fetch="fetch"
    :about="about"
    :refresh="8000"
  >
    <template #row="{ item }">
      <td>
        <router-link :to="`/groups/${item.id}`">{{ item.name }}</router-link>
        <div class="quiet">{{ item.source?.label }}</div>
      </td>
      <td>{{ item.members.toLocaleString('en') }}</td>
      <td v-for="each in applications" :key="each.key">
        <div v-for="role in item.roles[each.key]" :key="role">{{ role }}</div>
        <span v-if="!item.roles[each.key]" class="quiet">·</span>
      </td>
    </template>
    <template #empty>
      <EmptyState title="No mapped groups">Map a group to a role on an application's page.</EmptyState>
    </template>
  </PagedTable>
</template>
