<script setup lang="ts">
import { mdiMagnify } from '@mdi/js'
import { computed } from 'vue'
import { answered, api } from '../api/client'
import { useAddressFilter, useWords } from '../app/addressFilters'
import EmptyState from './EmptyState.vue'
import PagedTable from './PagedTable.vue'
import StatusLabel from './StatusLabel.vue'
import TimeLabel from './TimeLabel.vue'

const props = defineProps<{ application: string }>()
const { typed, words } = useWords()
const state = useAddressFilter('state')
const about = computed(() => ({
  application: props.application,
  q: words.value,
  state: state.value as 'due' | undefined,
}))
const fetch = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/accounts', { params: { query: { after, count, ...about.value } } }))
const origins: Record<string, string> = { made: 'made by Dravo', adopted: 'taken over' }
</script>

<template>
  <div class="row filters">
    <v-text-field
      v-model="typed"
      :prepend-inner-icon="mdiMagnify"
      label="Person, or id there"
      clearable
      class="words"
    />
    <v-select
      v-model="state"
      label="State"
      clearable
      class="narrow"
      :items="['agreed', 'due', 'waiting', 'failed', 'held']"
    />
  </div>
  <PagedTable
    name="accounts"
    caption="Accounts"
    :columns="['Person', 'Should be', 'Roles', 'State', 'Agreed', 'Id there', 'Origin']"
    :fetch="fetch"
    :about="about"
    :refresh="3000"
  >
    <template #row="{ item }">
      <td>
        <router-link :to="`/users/${item.person.id}`">{{ item.person.display_name }}</router-link>
      </td>
      <td>{{ item.should_be }}</td>
      <td>{{ item.roles.join(', ') || 'none' }}</td>
      <td>
        <router-link v-if="item.delivery" :to="`/provisioning/tasks/${item.delivery.id}`"
          ><StatusLabel :state="item.state"
        /></router-link>
        <StatusLabel v-else :state="item.state" />
      </td>
      <td><TimeLabel :at="item.applied_at" /></td>
      <td class="mono">{{ item.remote_id }}</td>
      <td>{{ item.origin ? origins[item.origin] : '' }}</td>
    </template>
    <template #empty>
      <EmptyState title="No account"
        >Accounts follow from access: as soon as somebody gets a role, their account is due.</EmptyState
      >
    </template>
  </PagedTable>
</template>
