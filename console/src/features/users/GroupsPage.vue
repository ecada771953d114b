<script setup lang="ts">
import { mdiMagnify } from '@mdi/js'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { answered, api } from '../../api/client'
import FormDialog from '../../components/FormDialog.vue'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import UsersTabs from './UsersTabs.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import { useAttempts } from '../../app/actions'
import { useSourceChoices } from '../../app/choices'
import { useAddressFilter, useWords } from '../../app/addressFilters'
import { useMay } from '../../app/session'

const may = useMay()
const router = useRouter()
const adding = ref(false)
const name = ref('')
const description = ref('')
const { wrong, busy, attempt } = useAttempts()
async function add(): Promise<void> {
  let id = ''
  const body = () => ({ name: name.value, description: description.value })
  const request = () => answered(api.POST('/api/v1/groups', { body: body() }))
  if (await attempt(async () => (id = (await request()).id))) await router.push({ path: `/groups/${id}` })
}
const { typed, words } = useWords()
const source = useAddressFilter('source')
const choices = useSourceChoices()
const mapped = useAddressFilter('mapped')
const givings = [
  { title: 'mapped to a role', value: 'yes' },
  { title: 'not mapped', value: 'no' },
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
        <p class="lead">
          Groups belong to a source or are local. Groups with the same name in different sources are different
          groups.
        </p>
      </div>
      <v-btn
        v-if="may('groups.change')"
        variant="outlined"
        @click="((name = description = ''), (wrong = null), (adding = true))"
        >Create group</v-btn
      >
    </div>
    <UsersTabs />
    <div class="panel">
      <div class="row filters">
        <v-text-field
          v-model="typed"
          :prepend-inner-icon="mdiMagnify"
          label="Name or ID"
          clearable
          class="words"
        />
        <v-select v-model="source" :items="choices" label="Source" clearable class="narrow" />
        <v-select v-model="mapped" :items="givings" label="Role mapping" clearable class="narrow" />
      </div>
      <PagedTable
        name="groups"
        caption="Groups"
        :columns="['Group', 'Source', 'Members', 'Assignments', 'Changed', 'ID']"
        :fetch="fetch"
        :about="about"
        :refresh="8000"
      >
        <template #row="{ item }">
          <td>
            <router-link :to="`/groups/${item.id}`">{{ item.name }}</router-link>
          </td>
          <td>
            <router-link v-if="item.source" :to="`/sources/${item.source.key}`">{{
              item.source.label
            }}</router-link>
          </td>
          <td>{{ item.members.toLocaleString('en') }}</td>
          <td>{{ item.assignments || 'none' }}</td>
          <td><TimeLabel :at="item.modified_at" /></td>
          <td class="mono">{{ item.external_id || item.id }}</td>
        </template>
        <template #empty>
          <EmptyState title="No matching groups"
            >Groups come from sources. If a source sends none, enable groups at the identity
            provider.</EmptyState
          >
        </template>
      </PagedTable>
    </div>
    <FormDialog
      v-model="adding"
      title="Create local group"
      act="Create"
      :wrong="wrong"
      :busy="busy"
      @done="add"
    >
      <p class="quiet">A local group can contain users and groups of any source. You can map it to roles.</p>
      <v-text-field v-model="name" label="Name" autocomplete="off" />
      <v-textarea v-model="description" label="Description" rows="2" auto-grow maxlength="500" />
    </FormDialog>
  </div>
</template>
