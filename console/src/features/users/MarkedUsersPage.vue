<script setup lang="ts">
// Users that an operator marked as inactive or left.
import { mdiMagnify } from '@mdi/js'
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import { useWords } from '../../app/addressFilters'
import { useMay } from '../../app/session'
import MarkUsersDialog from './MarkUsersDialog.vue'
import UsersTabs from './UsersTabs.vue'

type Marked = Schemas['MarkedUser']
const may = useMay()
const { typed, words } = useWords()
const about = computed(() => ({ q: words.value }))
const removing = ref(false)
const chosen = ref<Marked['user'][]>([])
const version = ref(0)
const fetch = async (after: string | undefined, count: number) => {
  const query = { after, count, ...about.value }
  const page = await answered(api.GET('/api/v1/user-marks', { params: { query } }))
  return { ...page, items: page.items.map((each) => ({ ...each, id: each.user.id })) }
}
</script>

<template>
  <div class="page">
    <div class="head">
      <div class="grow">
        <h1>Marked users</h1>
        <p class="lead">Users that an operator marked as inactive or left, whatever their sources report.</p>
      </div>
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
      </div>
      <PagedTable
        name="user-marks"
        caption="Marked users"
        :columns="['Name', 'Status', 'From', 'Note', 'By', '']"
        :fetch="fetch"
        :about="[about, version]"
        :refresh="8000"
      >
        <template #row="{ item }">
          <td>
            <router-link :to="`/users/${item.user.id}`">{{ item.user.display_name }}</router-link>
          </td>
          <td><StatusLabel :status="item.status" /></td>
          <td><TimeLabel :at="item.from_at" /></td>
          <td>{{ item.note }}</td>
          <td>{{ item.by }}</td>
          <td>
            <v-btn
              v-if="may('users.change')"
              size="small"
              variant="text"
              :aria-label="`Remove mark of ${item.user.display_name}`"
              @click="((chosen = [item.user]), (removing = true))"
              >Remove mark</v-btn
            >
          </td>
        </template>
        <template #empty>
          <EmptyState :title="words ? 'No matching users' : 'No marked users'">
            {{ words ? 'Try fewer letters.' : 'Mark users on their page, or several in the list of users.' }}
          </EmptyState>
        </template>
      </PagedTable>
    </div>
    <MarkUsersDialog v-model="removing" :users="chosen" remove @done="version++" />
  </div>
</template>
