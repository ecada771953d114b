<script setup lang="ts">
import { mdiMagnify } from '@mdi/js'
import { computed } from 'vue'
import { answered, api } from '../api/client'
import EmptyState from '../components/EmptyState.vue'
import PagedTable from '../components/PagedTable.vue'
import PeopleTabs from '../components/PeopleTabs.vue'
import TimeOf from '../components/TimeOf.vue'
import { useSourceChoices } from '../app/choices'
import { useAddressFilter, useWords } from '../app/search'

const { typed, words } = useWords()
const source = useAddressFilter('source')
const choices = useSourceChoices()
const mapped = useAddressFilter('mapped')
const givings = [
  { title: 'give something', value: 'yes' },
  { title: 'map to nothing', value: 'no' },
]
const about = computed(() => ({
  q: words.value,
  source: source.value,
  mapped: mapped.value as 'yes' | 'no' | undefined,
}))
const fetch = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/groups', { params: { query: { after, count, ...about.value } } }))
</script>

<template>
  <div class="page">
    <div class="head">
      <div class="grow">
        <h1>Groups</h1>
        <p class="lead">Each belongs to its source; a group of the same name in another source is another group.</p>
      </div>
    </div>
    <PeopleTabs />
    <div class="panel">
      <div class="row filters">
        <v-text-field v-model="typed" :prepend-inner-icon="mdiMagnify" label="Name or id" clearable class="words" />
        <v-select v-model="source" :items="choices" label="Source" clearable class="narrow" />
        <v-select v-model="mapped" :items="givings" label="Which" clearable class="narrow" />
      </div>
      <PagedTable
        name="groups"
        caption="Groups"
        :columns="['Group', 'Source', 'Members', 'Assignments', 'Changed', 'Id']"
        :fetch="fetch"
        :about="about"
        :refresh="8000"
      >
        <template #row="{ item }">
          <td>
            <router-link :to="`/groups/${item.id}`">{{ item.name }}</router-link>
          </td>
          <td>
            <router-link v-if="item.source" :to="`/sources/${item.source.key}`">{{ item.source.label }}</router-link>
          </td>
          <td>{{ item.members.toLocaleString('en') }}</td>
          <td>{{ item.assignments || 'none' }}</td>
          <td><TimeOf :at="item.modified_at" /></td>
          <td class="mono">{{ item.external_id || item.id }}</td>
        </template>
        <template #empty>
          <EmptyState title="No group fits"
            >Groups come from sources. Switch on groups at the other side, if it sends none.</EmptyState
          >
        </template>
      </PagedTable>
    </div>
  </div>
</template>
