<script setup lang="ts">
// The operators: create, edit, disable and enable.
import { ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useSession } from '../../app/session'
import { inWords } from '../../app/words'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import SecretOnce from '../../components/SecretOnce.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import OperatorDialog from './OperatorDialog.vue'

const { session } = useSession()
const dialog = ref(false)
// The operator who is edited; null while one is created.
const operator = ref<Schemas['Operator'] | null>(null)
const password = ref('')
const whose = ref('')
const { wrong, attempt } = useAttempts()

function edit(each: Schemas['Operator'] | null): void {
  operator.value = each
  dialog.value = true
}
function showPassword(name: string, made: Schemas['NewOperator']): void {
  password.value = made.password ?? ''
  whose.value = name
}
const disable = (id: string) =>
  attempt(() => answered(api.POST('/api/v1/operators/{id}/disable', { params: { path: { id } } })))
const enable = (id: string) =>
  attempt(() => answered(api.POST('/api/v1/operators/{id}/enable', { params: { path: { id } } })))
const resetFactor = (id: string) =>
  attempt(() =>
    answered(api.POST('/api/v1/operators/{id}/second-factor/reset', { params: { path: { id } } })),
  )
const newPassword = (id: string, name: string) =>
  attempt(async () => {
    const params = { path: { id } }
    showPassword(name, await answered(api.POST('/api/v1/operators/{id}/password', { params })))
  })
const operators = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/operators', { params: { query: { after, count } } }))
function comesIn(each: Schemas['Operator']): string {
  if (each.only_by_source) return 'source sign-in only'
  return each.second_factor ? 'password and second factor' : 'password only'
}
/** What the view of an operator masks, in words. */
function masked(item: Schemas['Operator']): string[] {
  return [
    ...(item.masked ? ['attributes'] : []),
    ...(item.masked_names ? ['names'] : []),
    ...(item.masked_networks ? ['network addresses'] : []),
  ]
}
</script>

<template>
  <ErrorMessage :wrong="wrong" />
  <section class="panel" aria-labelledby="operators">
    <div class="row between">
      <h2 id="operators">Operators</h2>
      <v-btn color="primary" @click="edit(null)">Create operator</v-btn>
    </div>
    <SecretOnce v-if="password" :secret="password" :name="`Password of ${whose}`" />
    <PagedTable
      name="operators"
      caption="Operators"
      :columns="['Name', 'Kind', 'Created', 'Status', '']"
      :fetch="operators"
    >
      <template #row="{ item }">
        <td>{{ item.name }}</td>
        <td>
          {{ inWords(item.kind)
          }}<template v-if="masked(item).length">, {{ masked(item).join(', ') }} masked</template>
          <template v-if="item.hidden_areas.length"
            >, without {{ item.hidden_areas.map(inWords).join(', ') }}</template
          >
          <div v-if="item.email" class="quiet">{{ item.email }}</div>
          <div v-if="item.applications.length" class="quiet">{{ item.applications.join(', ') }}</div>
        </td>
        <td><TimeLabel :at="item.created_at" /></td>
        <td>
          <StatusLabel :status="item.disabled_at ? 'inactive' : 'active'" />
          <div class="quiet">{{ comesIn(item) }}</div>
        </td>
        <td>
          <v-btn size="small" variant="outlined" @click="edit(item)">Edit</v-btn>
          <v-btn v-if="item.disabled_at" size="small" variant="text" @click="enable(item.id)">Enable</v-btn>
          <v-btn v-else size="small" variant="text" @click="disable(item.id)">Disable</v-btn>
          <v-btn
            v-if="!item.disabled_at && item.name !== session?.name"
            size="small"
            variant="text"
            @click="newPassword(item.id, item.name)"
            >Reset password</v-btn
          >
          <v-btn
            v-if="item.second_factor && item.name !== session?.name"
            size="small"
            variant="text"
            @click="resetFactor(item.id)"
            >Reset second factor</v-btn
          >
        </td>
      </template>
      <template #empty><EmptyState title="No operators">Create an operator.</EmptyState></template>
    </PagedTable>
  </section>
  <OperatorDialog v-model="dialog" :operator="operator" @created="showPassword($event.name, $event)" />
</template>

<style scoped>
.between {
  justify-content: space-between;
}
</style>
