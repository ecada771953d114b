<script setup lang="ts">
import { mdiMagnify } from '@mdi/js'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { answered, api, type Schemas } from '../../api/client'
import EmptyState from '../../components/EmptyState.vue'
import LocalUserDialog from './LocalUserDialog.vue'
import AssignUsersDialog from './AssignUsersDialog.vue'
import MarkUsersDialog from './MarkUsersDialog.vue'
import PagedTable from '../../components/PagedTable.vue'
import UsersTabs from './UsersTabs.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import { useAddressFilter, useWords } from '../../app/addressFilters'
import { useLocalUsers } from '../../app/localUsers'
import { useMay } from '../../app/session'
import DeleteUsersDialog from '../local-users/DeleteUsersDialog.vue'
import InviteDialog from '../local-users/InviteDialog.vue'
import OneTimePasswords from '../local-users/OneTimePasswords.vue'

const may = useMay()
const router = useRouter()
const local = useLocalUsers()
const adding = ref(false)
const inviting = ref(false)
const deleting = ref(false)
const handingOut = ref(false)
const marking = ref(false)
const assigning = ref(false)
const chosen = ref<Schemas['UserLine'][]>([])
const { typed, words } = useWords()
const status = useAddressFilter('status')
const about = computed(() => ({ q: words.value, status: status.value as 'active' | undefined }))
const fetch = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/users', { params: { query: { after, count, ...about.value } } }))
</script>

<template>
  <div class="page">
    <div class="head">
      <div class="grow">
        <h1>Users</h1>
        <p class="lead">All users of all sources. Records of one user in several sources are one user.</p>
      </div>
      <template v-if="local && may('users.change')">
        <v-btn color="primary" @click="inviting = true">Invite users</v-btn>
        <v-btn variant="outlined" @click="adding = true">Create local user</v-btn>
      </template>
    </div>
    <UsersTabs />
    <div class="panel">
      <div class="row filters">
        <v-text-field
          v-model="typed"
          :prepend-inner-icon="mdiMagnify"
          label="Name, user name or email"
          clearable
          class="words"
        />
        <v-select
          v-model="status"
          label="Status"
          clearable
          class="narrow"
          :items="['active', 'inactive', 'pending', 'left']"
        />
        <template v-if="chosen.length">
          <v-btn v-if="may('users.change')" variant="outlined" @click="marking = true"
            >Mark {{ chosen.length }}</v-btn
          >
          <v-btn v-if="may('assignments.change')" variant="outlined" @click="assigning = true"
            >Assign role to {{ chosen.length }}</v-btn
          >
          <template v-if="local && may('users.change')">
            <v-btn variant="outlined" @click="deleting = true">Delete {{ chosen.length }}</v-btn>
            <v-btn variant="outlined" @click="handingOut = true"
              >One-time passwords for {{ chosen.length }}</v-btn
            >
          </template>
          <v-btn variant="text" @click="chosen = []">Clear selection</v-btn>
        </template>
      </div>
      <PagedTable
        name="users"
        caption="Users"
        :columns="[
          ...(may('users.change') ? ['Select'] : []),
          'Name',
          'User name',
          'Email',
          'Status',
          'Since',
        ]"
        :fetch="fetch"
        :about="about"
        :refresh="8000"
      >
        <template #row="{ item }">
          <td v-if="may('users.change')">
            <v-checkbox-btn
              v-model="chosen"
              density="compact"
              :value="item"
              :value-comparator="(one, other) => one.id === other.id"
              :aria-label="`Select ${item.display_name}`"
            />
          </td>
          <td>
            <router-link :to="`/users/${item.id}`">{{ item.display_name }}</router-link>
          </td>
          <td class="mono">{{ item.user_name }}</td>
          <td>{{ item.email }}</td>
          <td><StatusLabel :status="item.status" /></td>
          <td><TimeLabel :at="item.since" /></td>
        </template>
        <template #empty>
          <EmptyState :title="words || status ? 'No matching users' : 'No users yet'">
            {{
              words || status
                ? 'Try fewer letters or another status.'
                : 'Users come from sources. Add a source to see its users here.'
            }}
          </EmptyState>
        </template>
      </PagedTable>
    </div>
    <MarkUsersDialog v-model="marking" :users="chosen" @done="chosen = []" />
    <AssignUsersDialog v-model="assigning" :users="chosen" @done="chosen = []" />
    <InviteDialog v-model="inviting" />
    <DeleteUsersDialog v-model="deleting" :users="chosen" @done="chosen = []" />
    <OneTimePasswords v-model="handingOut" :users="chosen" />
    <LocalUserDialog v-model="adding" @added="(id: string) => router.push(`/users/${id}`)" />
  </div>
</template>
