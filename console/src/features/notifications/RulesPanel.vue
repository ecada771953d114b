<script setup lang="ts">
// Notification rules: which events, for which applications and sources, to whom, and when.
import { computed, ref } from 'vue'
import { useQuery } from '@tanstack/vue-query'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useMay } from '../../app/session'
import EmptyState from '../../components/EmptyState.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import GuideButton from '../../components/GuideButton.vue'
import PagedTable from '../../components/PagedTable.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import RuleDialog from './RuleDialog.vue'

type Rule = Schemas['Rule']
const may = useMay()
const { wrong, attempt } = useAttempts()
const dialog = ref(false)
const rule = ref<Rule | null>(null)
const kinds = useQuery({
  queryKey: ['event kinds'],
  queryFn: () => answered(api.GET('/api/v1/notifications/kinds')),
})
const labels = computed(() => new Map(kinds.data.value?.items.map((each) => [each.key, each.label]) ?? []))
function edit(each: Rule | null): void {
  rule.value = each
  dialog.value = true
}
const remove = (id: string) =>
  attempt(() => answered(api.DELETE('/api/v1/notifications/rules/{id}', { params: { path: { id } } })))
const rules = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/notifications/rules', { params: { query: { after, count } } }))
function events(each: Rule): string {
  if (!each.kinds) return 'All events'
  const named = each.kinds.map((key) => labels.value.get(key) ?? key)
  return named.length > 4 ? `${named.slice(0, 3).join(', ')} and ${named.length - 3} more` : named.join(', ')
}
/** The applications and sources to which a rule is limited, in words. */
function limits(each: Rule): string[] {
  return [
    ...(each.applications ? [`only applications ${each.applications.join(', ')}`] : []),
    ...(each.sources ? [`only sources ${each.sources.join(', ')}`] : []),
  ]
}
</script>

<template>
  <section class="panel" aria-labelledby="rules">
    <div class="row between">
      <h2 id="rules">Notification rules</h2>
      <div class="row">
        <GuideButton guide="notifications" />
        <v-btn v-if="may('notifications.change')" color="primary" @click="edit(null)">Create rule</v-btn>
      </div>
    </div>
    <ErrorMessage :wrong="wrong" />
    <PagedTable
      name="notification rules"
      caption="Notification rules"
      :columns="['Rule', 'Events', 'Recipients', 'Emails', 'Status', '']"
      :fetch="rules"
    >
      <template #row="{ item }">
        <td>{{ item.label }}</td>
        <td>
          {{ events(item) }}
          <div v-for="limit in limits(item)" :key="limit" class="quiet">{{ limit }}</div>
        </td>
        <td>
          <div v-for="to in item.recipients" :key="to.kind + to.value">{{ to.label }}</div>
        </td>
        <td>{{ item.frequency }}</td>
        <td><StatusLabel :status="item.enabled ? 'enabled' : 'disabled'" /></td>
        <td class="actions">
          <template v-if="may('notifications.change')">
            <v-btn size="small" variant="outlined" @click="edit(item)">Edit</v-btn>
            <v-btn size="small" variant="text" @click="remove(item.id)">Delete</v-btn>
          </template>
        </td>
      </template>
      <template #empty><EmptyState title="No rules">Nobody is notified. Create a rule.</EmptyState></template>
    </PagedTable>
    <RuleDialog v-model="dialog" :rule="rule" :kinds="kinds.data.value?.items ?? []" />
  </section>
</template>

<style scoped>
.actions {
  white-space: nowrap;
}
.between {
  justify-content: space-between;
}
</style>
