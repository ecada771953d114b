<script setup lang="ts">
import {
  mdiAccountWrenchOutline,
  mdiCompare,
  mdiFolderSyncOutline,
  mdiInboxArrowDownOutline,
  mdiTruckDeliveryOutline,
} from '@mdi/js'
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import type { Confirmation } from '../../app/assignments'
import { useApplicationChoices, useSourceChoices } from '../../app/choices'
import { useAddressFilter } from '../../app/addressFilters'
import { useSession } from '../../app/session'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import PreviewDialog from '../../components/PreviewDialog.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

type Line = Schemas['ActivityLine']
const kinds: Record<Line['kind'], [string, string]> = {
  request: [mdiInboxArrowDownOutline, 'Requests from sources'],
  task: [mdiTruckDeliveryOutline, 'Provisioning'],
  run: [mdiFolderSyncOutline, 'Import runs'],
  reconciliation: [mdiCompare, 'Reconciliations'],
  change: [mdiAccountWrenchOutline, 'Changes by operators'],
}
const kindChoices = Object.entries(kinds).map(([value, [, title]]) => ({ value, title }))

const kind = useAddressFilter('kind')
const source = useAddressFilter('source')
const application = useAddressFilter('application')
const user = useAddressFilter('user')
const trouble = useAddressFilter('trouble')
const until = useAddressFilter('until')
const sources = useSourceChoices()
const applications = useApplicationChoices()
const about = computed(() => ({
  kind: kind.value as Line['kind'] | undefined,
  source: source.value,
  application: application.value,
  user: user.value,
  trouble: trouble.value === 'yes',
  until: until.value,
}))
const fetch = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/activity', { params: { query: { after, count, ...about.value } } }))

const { session } = useSession()
const mayUndo = computed(
  () => session.value?.permissions.includes('assignments.change') && !session.value.applications,
)
const undoing = ref<Line | null>(null)
const asking = ref(false)
/** Changes are entries of the audit log; their number is after the kind. */
const entry = computed(() => Number(undoing.value?.id.split(':')[1] ?? 0))
const params = computed(() => ({ path: { id: entry.value } }))
const look = () => answered(api.GET('/api/v1/audit/{id}/undo', { params: params.value }))
const undo = (said: Confirmation) =>
  answered(api.POST('/api/v1/audit/{id}/undo', { params: params.value, body: said }))
function ask(item: Line): void {
  undoing.value = item
  asking.value = true
}

function place(item: Line): string | undefined {
  if (item.kind === 'task') return `/provisioning/tasks/${item.task}`
  if (item.kind === 'run') return `/sources/${item.source?.key}/runs`
  if (item.kind === 'reconciliation') return `/applications/${item.application?.key}/drift`
  if (item.kind === 'request')
    return item.user ? `/users/${item.user.id}` : `/sources/${item.source?.key}/requests`
  if (item.source) return `/sources/${item.source.key}`
  if (item.application) return `/applications/${item.application.key}`
  return undefined
}
</script>

<template>
  <div class="page">
    <div class="head">
      <div class="grow">
        <h1>Activity</h1>
        <p class="lead">
          Requests from sources, import runs, provisioning, reconciliations and changes by operators, newest
          first. The audit log is chained: Dravo detects altered or deleted entries.
        </p>
      </div>
    </div>
    <div class="panel">
      <div class="row filters">
        <v-select v-model="kind" :items="kindChoices" label="Kind" clearable class="narrow" />
        <v-select v-model="source" :items="sources" label="Source" clearable class="narrow" />
        <v-select v-model="application" :items="applications" label="Application" clearable class="narrow" />
        <v-text-field v-model="until" type="date" label="Until" clearable class="narrow" />
        <v-checkbox
          :model-value="trouble === 'yes'"
          label="Failures only"
          hide-details
          @update:model-value="(only) => (trouble = only ? 'yes' : undefined)"
        />
        <v-chip v-if="user" closable @click:close="user = undefined">One user only</v-chip>
      </div>
      <PagedTable
        name="activity"
        caption="Activity"
        :columns="['Time', 'Event', 'By', 'Outcome']"
        :fetch="fetch"
        :about="about"
        :refresh="4000"
      >
        <template #row="{ item }">
          <td class="when"><TimeLabel :at="item.at" /></td>
          <td>
            <div class="what">
              <v-icon
                :icon="kinds[item.kind][0]"
                size="18"
                :title="kinds[item.kind][1]"
                :aria-label="item.kind"
              />
              <div>
                <router-link v-if="place(item)" :to="place(item)!">{{ item.what }}</router-link>
                <template v-else>{{ item.what }}</template>
                <div v-if="item.detail" class="quiet detail" :class="{ mono: item.kind === 'request' }">
                  {{ item.detail }}
                </div>
              </div>
            </div>
          </td>
          <td>{{ item.by }}</td>
          <td>
            <StatusLabel :status="item.outcome" />
            <v-btn v-if="item.undoable && mayUndo" size="small" variant="text" @click="ask(item)">Undo</v-btn>
          </td>
        </template>
        <template #empty>
          <EmptyState title="No matching activity"> Remove a filter to see more. </EmptyState>
        </template>
      </PagedTable>
    </div>
    <PreviewDialog
      v-model="asking"
      :title="undoing ? `Undo: ${undoing.what}?` : ''"
      act="Undo"
      :about="entry"
      :look="look"
      :carry-out="undo"
    >
      <p class="quiet">{{ undoing?.detail }}</p>
    </PreviewDialog>
  </div>
</template>

<style scoped>
.when {
  white-space: nowrap;
}
.what {
  display: flex;
  gap: 10px;
  align-items: flex-start;
}
.what .v-icon {
  margin-top: 3px;
  flex: none;
}
.detail {
  overflow-wrap: anywhere;
}
</style>
