<script setup lang="ts">
import { mdiMagnify } from '@mdi/js'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { answered, api } from '../../api/client'
import EmptyState from '../../components/EmptyState.vue'
import LocalUserDialog from './LocalUserDialog.vue'
import PagedTable from '../../components/PagedTable.vue'
import UsersTabs from './UsersTabs.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import { useAddressFilter, useWords } from '../../app/addressFilters'
import { useMay } from '../../app/session'

const may = useMay()
const router = useRouter()
const adding = ref(false)
const { typed, words } = useWords()
const state = useAddressFilter('state')
const about = computed(() => ({ q: words.value, state: state.value as 'active' | undefined }))
const fetch = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/users', { params: { query: { after, count, ...about.value } } }))
</script>

<template>
  <div class="page">
    <div class="head">
      <div class="grow">
        <h1>Users</h1>
        <p class="lead">Everybody whom the sources know: one person each, whatever the number of records.</p>
      </div>
      <v-btn v-if="may('people.change')" variant="outlined" @click="adding = true">Add a person</v-btn>
    </div>
    <UsersTabs />
    <div class="panel">
      <div class="row filters">
        <v-text-field
          v-model="typed"
          :prepend-inner-icon="mdiMagnify"
          label="Name, user name or e-mail"
          clearable
          class="words"
        />
        <v-select v-model="state" label="State" clearable class="narrow" :items="['active', 'inactive', 'gone']" />
      </div>
      <PagedTable
        name="people"
        caption="Users"
        :columns="['Name', 'User name', 'E-mail', 'State', 'Since']"
        :fetch="fetch"
        :about="about"
        :refresh="8000"
      >
        <template #row="{ item }">
          <td>
            <router-link :to="`/users/${item.id}`">{{ item.display_name }}</router-link>
          </td>
          <td class="mono">{{ item.user_name }}</td>
          <td>{{ item.email }}</td>
          <td><StatusLabel :state="item.state" /></td>
          <td><TimeLabel :at="item.since" /></td>
        </template>
        <template #empty>
          <EmptyState :title="words || state ? 'Nobody fits' : 'Nobody yet'">
            {{
              words || state
                ? 'Try fewer letters, or another state.'
                : 'People come from sources: connect one, and they appear here.'
            }}
          </EmptyState>
        </template>
      </PagedTable>
    </div>
    <LocalUserDialog v-model="adding" @added="(id: string) => router.push(`/users/${id}`)" />
  </div>
</template>
