<script setup lang="ts">
// The role mapping of an application: groups, patterns and rules, then users, with numbers and warnings.
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { type Confirmation, what, assignedTo } from '../../app/assignments'
import AssignmentCells from './AssignmentCells.vue'
import AssignmentDialog from './AssignmentDialog.vue'
import BulkAssignDialog from './BulkAssignDialog.vue'
import ConfirmUsersDialog from './ConfirmUsersDialog.vue'
import EditAssignment from './EditAssignment.vue'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import PatternGroups from './PatternGroups.vue'
import AccessPolicyPanel from './AccessPolicyPanel.vue'
import PreviewDialog from '../../components/PreviewDialog.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
type Assignment = Schemas['Assignment']
const changed = ref(0)
const about = computed(() => ({ application: props.application.key, changed: changed.value }))
const path = computed(() => ({ key: props.application.key }))
const mapped = (after: string | undefined, count: number) =>
  answered(
    api.GET('/api/v1/applications/{key}/mapping', { params: { path: path.value, query: { after, count } } }),
  )
const direct = (after: string | undefined, count: number) =>
  answered(
    api.GET('/api/v1/assignments', {
      params: { query: { after, count, application: props.application.key, direct: true } },
    }),
  )

const adding = ref(false)
const many = ref(false)
const removing = ref<Assignment | null>(null)
const asking = ref(false)
const removal = () =>
  answered(
    api.GET('/api/v1/assignments/{id}/removal', { params: { path: { id: removing.value?.id ?? '' } } }),
  )
const remove = ({ confirm: name, expect }: Confirmation) =>
  answered(
    api.DELETE('/api/v1/assignments/{id}', {
      params: { path: { id: removing.value?.id ?? '' }, query: { confirm: name, ...expect } },
    }),
  )
function ask(item: Assignment): void {
  removing.value = item
  asking.value = true
}

const editing = ref<Assignment | null>(null)
const rule = ref<Assignment | null>(null)
const confirmingUsers = ref(false)
function askWaiting(item: Assignment): void {
  rule.value = item
  confirmingUsers.value = true
}

const opened = ref<Assignment | null>(null)
const reading = ref(false)
const confirmed = ref<string[]>([])
const confirming = computed(() => ({
  from: opened.value?.from_day ?? opened.value?.from ?? null,
  until: opened.value?.until_day ?? opened.value?.until ?? null,
  note: opened.value?.note ?? null,
  confirmed: confirmed.value,
}))
const params = computed(() => ({ path: { id: opened.value?.id ?? '' } }))
const confirmation = () =>
  answered(api.POST('/api/v1/assignments/{id}/preview', { params: params.value, body: confirming.value }))
const confirm = (said: Confirmation) =>
  answered(
    api.PUT('/api/v1/assignments/{id}', { params: params.value, body: { ...confirming.value, ...said } }),
  )
function read(item: Assignment): void {
  opened.value = item
  confirmed.value = [...item.confirmed]
  reading.value = true
}
</script>

<template>
  <AccessPolicyPanel :application="application" @done="changed++" />
  <div class="row filters">
    <v-btn color="primary" :disabled="!application.roles.length" @click="adding = true">Assign role</v-btn>
    <v-btn variant="outlined" :disabled="!application.roles.length" @click="many = true"
      >Map several groups</v-btn
    >
    <span v-if="!application.roles.length" class="quiet">
      Create a role first, under
      <router-link :to="`/applications/${application.key}/settings`">Settings</router-link>.
    </span>
  </div>
  <h2>Groups, patterns and rules</h2>
  <PagedTable
    name="mapping"
    caption="Groups, patterns and rules"
    :columns="['Assigned to', 'Source', 'Role', 'Users', 'Period', 'By', '']"
    :fetch="mapped"
    :about="about"
    :refresh="10000"
  >
    <template #row="{ item }">
      <td class="assigned">
        <template v-if="item.group">
          <router-link :to="`/groups/${item.group.id}`">{{ item.group.name }}</router-link>
          <div class="mono quiet">{{ item.group.external_id || item.group.id }}</div>
        </template>
        <template v-else-if="item.rule || item.expression">
          {{ item.rule ? 'Users who match' : 'Users by the expression' }}
          <code class="mono">{{ item.rule ?? item.expression }}</code>
          <div v-if="item.waiting">
            <v-btn size="small" variant="text" color="primary" class="fit" @click="askWaiting(item)"
              >Confirm {{ item.waiting.toLocaleString('en') }}
              {{ item.waiting === 1 ? 'user' : 'users' }}</v-btn
            >
          </div>
        </template>
        <template v-else-if="item.pattern">
          Groups that match <code class="mono">{{ item.pattern }}</code>
          <div>
            <v-btn size="small" variant="text" color="primary" class="fit" @click="read(item)"
              >{{ item.groups?.length ?? 0 }} groups match</v-btn
            >
          </div>
        </template>
        <template v-else>Everyone</template>
        <div v-if="item.new_users_since" class="quiet">
          only users new since <TimeLabel :at="item.new_users_since" />
        </div>
        <div v-if="item.note" class="quiet">{{ item.note }}</div>
        <div v-for="note in item.notes" :key="note.what" class="warning">
          <StatusLabel status="warning" /> {{ note.what }} <span class="quiet">{{ note.hint }}</span>
        </div>
      </td>
      <td>
        <router-link v-if="item.source" :to="`/sources/${item.source.key}`">{{
          item.source.label
        }}</router-link>
        <span v-else class="quiet">any</span>
      </td>
      <td>
        <b>{{ what(item) }}</b>
        <div v-if="item.plan" class="quiet">plan {{ item.plan.label }}</div>
      </td>
      <td>
        {{ item.matching_users?.toLocaleString('en') }} {{ item.matching_users === 1 ? 'user' : 'users' }}
      </td>
      <AssignmentCells :of="item" @away="ask(item)" @edit="editing = item" />
    </template>
    <template #empty>
      <EmptyState title="No role mapping yet">
        Map a group to a role. Members get the role, and lose it when they leave the group.
      </EmptyState>
    </template>
  </PagedTable>
  <h2>Assigned users</h2>
  <PagedTable
    name="direct"
    caption="Assigned users"
    :columns="['User', 'Role', 'Period', 'By', '']"
    :fetch="direct"
    :about="about"
    :refresh="10000"
    :count="25"
  >
    <template #row="{ item }">
      <td>
        <router-link :to="`/users/${item.user?.id}`">{{ item.user?.display_name }}</router-link>
        <div v-if="item.note" class="quiet">{{ item.note }}</div>
      </td>
      <td>
        <b>{{ what(item) }}</b>
        <div v-if="item.plan" class="quiet">plan {{ item.plan.label }}</div>
      </td>
      <AssignmentCells :of="item" @away="ask(item)" @edit="editing = item" />
    </template>
    <template #empty><p class="quiet">No user is assigned directly.</p></template>
  </PagedTable>

  <AssignmentDialog v-model="adding" :application="application" @done="changed++" />
  <EditAssignment v-model="editing" :application="application" @done="changed++" />
  <ConfirmUsersDialog v-model="confirmingUsers" :assignment="rule" @done="changed++" />
  <BulkAssignDialog v-model="many" :application="application" @done="changed++" />
  <PreviewDialog
    v-model="asking"
    :title="removing ? `Unassign ${assignedTo(removing)}, ${what(removing)}?` : ''"
    act="Unassign"
    :about="removing?.id"
    :look="removal"
    :carry-out="remove"
    serious
    @done="changed++"
  />
  <PreviewDialog
    v-model="reading"
    :title="opened ? `Groups that match ${opened.pattern}` : ''"
    act="Confirm groups"
    :about="confirming"
    :look="confirmation"
    :carry-out="confirm"
    @done="changed++"
  >
    <p class="quiet">
      A pattern assigns the highest role only through groups that you confirm here. This protects you from new
      group names at the source.
    </p>
    <PatternGroups v-model="confirmed" :groups="opened?.groups ?? []" />
  </PreviewDialog>
</template>

<style scoped>
h2 {
  margin: 14px 0 4px;
}
.assigned {
  max-width: 430px;
  overflow-wrap: anywhere;
}
.fit {
  margin-left: -10px;
}
.warning {
  margin-top: 4px;
}
</style>
