<script setup lang="ts">
import { computed, ref } from 'vue'
import { answered, api } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useMay } from '../../app/session'
import EmptyState from '../../components/EmptyState.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import PagedTable from '../../components/PagedTable.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

type State = 'open' | 'waiting' | 'approval' | 'manual' | 'failed' | 'held' | 'done' | 'discarded'
const props = defineProps<{ about: { q?: string; application?: string; status?: State }; within?: boolean }>()
const fetch = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/provisioning/tasks', { params: { query: { after, count, ...props.about } } }))
const may = useMay()
// Only tasks of one application that wait for an approval are selected.
const approving = computed(
  () => props.about.status === 'approval' && Boolean(props.about.application) && may('holds.approve'),
)
const chosen = ref<{ id: string; version: number }[]>([])
const { wrong, busy, attempt } = useAttempts()
async function approve(): Promise<void> {
  const body = { application: props.about.application ?? '', tasks: chosen.value }
  if (await attempt(() => answered(api.POST('/api/v1/provisioning/tasks/approve', { body }))))
    chosen.value = []
}
const columns = computed(() => [
  ...(approving.value ? ['Select'] : []),
  'User',
  ...(props.within ? [] : ['Application']),
  'Desired state',
  'Status',
  'Attempts',
  'Since',
  'Message',
])
</script>

<template>
  <template v-if="approving">
    <ErrorMessage :wrong="wrong" />
    <v-btn color="primary" :disabled="!chosen.length || busy" @click="approve">
      Approve {{ chosen.length || '' }}
    </v-btn>
  </template>
  <PagedTable
    name="tasks"
    caption="Provisioning tasks"
    :columns="columns"
    :fetch="fetch"
    :about="about"
    :refresh="2500"
  >
    <template #row="{ item }">
      <td v-if="approving">
        <v-checkbox-btn
          v-model="chosen"
          :value="{ id: item.id, version: item.version }"
          :aria-label="`Select ${item.user.display_name}`"
        />
      </td>
      <td>
        <router-link :to="`/provisioning/tasks/${item.id}`">{{ item.user.display_name }}</router-link>
      </td>
      <td v-if="!within">
        <router-link :to="`/applications/${item.application.key}`">{{ item.application.label }}</router-link>
      </td>
      <td>{{ item.desired_state }}</td>
      <td>
        <StatusLabel :status="item.status" />
        <div v-if="item.waits_for" class="quiet">{{ item.waits_for }}</div>
      </td>
      <td>{{ item.attempts }}</td>
      <td><TimeLabel :at="item.closed_at ?? item.created_at" /></td>
      <td class="said">{{ item.message }}</td>
    </template>
    <template #empty>
      <EmptyState title="No tasks">A task appears here when an account needs to change.</EmptyState>
    </template>
  </PagedTable>
</template>

<style scoped>
.said {
  max-width: 420px;
}
</style>
