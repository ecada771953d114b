<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api } from '../../api/client'
import { useMay } from '../../app/session'
import AccessTable from '../access/AccessTable.vue'
import AccountTable from '../../components/AccountTable.vue'
import ProvisionedGroups from './ProvisionedGroups.vue'
import TaskTable from '../provisioning/TaskTable.vue'
import ErrorGroups from '../provisioning/ErrorGroups.vue'
import DeleteApplication from './DeleteApplication.vue'
import DriftPanel from './DriftPanel.vue'
import CopyApplication from './CopyApplication.vue'
import EditApplication from './EditApplication.vue'
import ManualTasks from './ManualTasks.vue'
import HoldNotice from '../provisioning/HoldNotice.vue'
import RoleMapping from './RoleMapping.vue'
import ApplicationSettings from './ApplicationSettings.vue'
import SeatTable from './SeatTable.vue'
import SetupPanel from './SetupPanel.vue'
import ApplicationIcon from '../../components/ApplicationIcon.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import GuideButton from '../../components/GuideButton.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ id: string; tab?: string }>()
const may = useMay()
const editing = ref(false)
const removing = ref(false)
const copying = ref(false)
const application = useQuery({
  queryKey: ['applications', props.id],
  queryFn: () => answered(api.GET('/api/v1/applications/{key}', { params: { path: { key: props.id } } })),
  refetchInterval: 3000,
})
const data = computed(() => application.data.value)
const shown = computed(() => props.tab || 'mapping')
const tabs = computed(() => [
  ['mapping', 'Role mapping'],
  ['users', 'Users'],
  ...(data.value?.plans.length ? [['seats', 'Seats']] : []),
  ...(data.value?.tracked_only ? [['manual', 'Manual tasks']] : []),
  ['accounts', 'Accounts'],
  ...(data.value?.tracked_only ? [] : [['groups', 'Provisioned groups']]),
  ['tasks', 'Tasks'],
  ...(data.value?.tracked_only ? [] : [['drift', 'Drift']]),
  ['settings', 'Settings'],
  ['setup', 'Setup'],
])
/** What is still missing before accounts are provisioned. */
const missing = computed(() => {
  const list: string[] = []
  if (!data.value) return list
  if (!data.value.roles.length) list.push('No roles are defined.')
  if (data.value.tracked_only) return list
  if (!data.value.connection.base_url) list.push('The SCIM base URL and token are missing.')
  else if (!data.value.connection.has_secret) list.push('The token is missing.')
  else if (!data.value.connection.checked_at) list.push('The connection has not been checked.')
  const { status, pilot_group } = data.value.provisioning
  if (status === 'disabled') list.push('Provisioning is disabled.')
  if (status === 'pilot') list.push(`Only members of ${pilot_group?.name} are provisioned.`)
  return list
})
</script>

<template>
  <div class="page">
    <ErrorMessage :wrong="application.error.value" />
    <template v-if="data">
      <div class="head">
        <div class="grow">
          <h1><ApplicationIcon :application="data" :size="30" class="icon" />{{ data.label }}</h1>
          <p class="lead">
            <StatusLabel :status="data.status" />
            <template v-if="data.owner"> · owner {{ data.owner }}</template> ·
            {{ data.users.toLocaleString('en') }} users · {{ data.accounts.toLocaleString('en') }} accounts
            <template v-if="data.waiting"> · {{ data.waiting.toLocaleString('en') }} tasks waiting</template>
            <template v-if="data.manual">
              ·
              <router-link :to="`/applications/${id}/manual`"
                >{{ data.manual.toLocaleString('en') }} to do by hand</router-link
              ></template
            >
            <template v-if="data.drifting">
              ·
              <router-link :to="`/applications/${id}/drift`"
                >{{ data.drifting.toLocaleString('en') }} in drift</router-link
              ></template
            >
            <template v-if="data.answered_at"> · last response <TimeLabel :at="data.answered_at" /></template>
          </p>
          <p v-if="data.instances.length" class="about quiet">
            Other instances:
            <template v-for="(each, number) in data.instances" :key="each.key">
              <template v-if="number">, </template>
              <router-link :to="`/applications/${each.key}`">{{ each.label }}</router-link>
            </template>
          </p>
          <p v-if="data.note" class="about">{{ data.note }}</p>
        </div>
        <GuideButton :guide="data.tracked_only ? 'application-without-scim' : 'connect-an-application'" />
        <v-btn variant="text" :to="`/activity?application=${id}`">Activity</v-btn>
        <template v-if="may('applications.change')">
          <v-btn variant="outlined" @click="editing = true">Edit</v-btn>
          <v-btn variant="text" @click="copying = true">Copy</v-btn>
          <v-btn variant="outlined" @click="removing = true">Delete</v-btn>
          <CopyApplication v-model="copying" :application="data" />
          <EditApplication v-model="editing" :application="data" />
          <DeleteApplication v-model="removing" :application="data" />
        </template>
      </div>
      <div v-if="data.trouble" class="note" role="status">
        <StatusLabel :status="data.status" />
        <span>{{ data.trouble }} {{ data.hint }}</span>
      </div>
      <div v-if="missing.length" class="note" role="status">
        <StatusLabel status="to do" />
        <span>
          {{ missing.join(' ') }}
          <router-link v-if="shown !== 'setup'" :to="`/applications/${id}/setup`"
            >Setup checklist</router-link
          >
        </span>
      </div>
      <HoldNotice :application="id" />
      <v-tabs :model-value="shown" class="tabs">
        <v-tab v-for="[key, title] in tabs" :key="key" :value="key" :to="`/applications/${id}/${key}`">{{
          title
        }}</v-tab>
      </v-tabs>
      <div class="panel">
        <RoleMapping v-if="shown === 'mapping'" :application="data" />
        <AccessTable v-else-if="shown === 'users'" :about="{ application: id }" within />
        <SeatTable v-else-if="shown === 'seats'" :application="data" />
        <ManualTasks v-else-if="shown === 'manual'" :application="data" />
        <AccountTable v-else-if="shown === 'accounts'" :application="id" />
        <ProvisionedGroups v-else-if="shown === 'groups'" :application="id" />
        <SetupPanel v-else-if="shown === 'setup'" :application="data" />
        <DriftPanel v-else-if="shown === 'drift'" :application="data" />
        <template v-else-if="shown === 'tasks'">
          <ErrorGroups :application="id" />
          <template v-if="data.settings.approve_tasks">
            <h2>Waiting for an approval</h2>
            <TaskTable :about="{ application: id, status: 'approval' }" within />
            <h2>All tasks</h2>
          </template>
          <TaskTable :about="{ application: id }" within />
        </template>
        <ApplicationSettings v-else :application="data" />
      </div>
    </template>
  </div>
</template>

<style scoped>
.icon {
  margin-right: 10px;
}
.about {
  margin: 4px 0 0;
  white-space: pre-line;
}
.tabs {
  margin-bottom: 12px;
}
.note {
  display: flex;
  gap: 12px;
  padding: 9px 14px;
  margin-bottom: 12px;
  border-left: 4px solid rgb(var(--v-theme-look));
  background: rgba(var(--v-theme-look), 0.08);
  border-radius: 4px;
}
</style>
