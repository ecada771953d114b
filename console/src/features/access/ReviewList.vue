<script setup lang="ts">
// The access reviews, and a dialog to create one.
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { answered, api } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useApplicationChoices } from '../../app/choices'
import { useMay } from '../../app/session'
import FormDialog from '../../components/FormDialog.vue'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const may = useMay()
const router = useRouter()
const applications = useApplicationChoices()
const fetch = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/reviews', { params: { query: { after, count } } }))
const parts = [
  { title: 'All access', value: 'all' },
  { title: 'Highest roles only', value: 'highest_role' },
  { title: 'Direct assignments only', value: 'direct_only' },
]
const asking = ref(false)
const label = ref('')
const until = ref('')
const application = ref<string | null>(null)
const part = ref('all')
const note = ref('')
const { wrong, busy, attempt } = useAttempts()
const body = computed(() => ({
  label: label.value,
  until: until.value,
  application: application.value,
  only: part.value === 'all' ? null : (part.value as 'highest_role' | 'direct_only'),
  note: note.value || null,
}))
function ask(): void {
  label.value = until.value = note.value = ''
  application.value = null
  part.value = 'all'
  wrong.value = null
  asking.value = true
}
async function begin(): Promise<void> {
  let id = ''
  const request = () => answered(api.POST('/api/v1/reviews', { body: body.value }))
  if (await attempt(async () => (id = (await request()).id))) await router.push(`/reviews/${id}`)
}
</script>

<template>
  <div class="row filters">
    <v-btn v-if="may('reviews.change')" color="primary" @click="ask">Create review</v-btn>
    <span class="quiet">
      Application owners confirm or remove each user's access by a due date. Dravo keeps every decision as
      evidence.
    </span>
  </div>
  <PagedTable
    name="reviews"
    caption="Reviews"
    :columns="['Review', 'Due date', 'Open', 'Confirmed', 'Removed', 'Status']"
    :fetch="fetch"
    :about="{}"
    :refresh="8000"
  >
    <template #row="{ item }">
      <td>
        <router-link :to="`/reviews/${item.id}`">{{ item.label }}</router-link>
        <div class="quiet">created by {{ item.created_by }}, <TimeLabel :at="item.created_at" /></div>
      </td>
      <td>{{ item.until_day }}</td>
      <td>{{ item.open.toLocaleString('en') }} of {{ item.rows.toLocaleString('en') }}</td>
      <td>{{ item.confirmed.toLocaleString('en') }}</td>
      <td>{{ item.removed.toLocaleString('en') }}</td>
      <td><StatusLabel :status="item.closed_at ? 'ended' : item.open ? 'open' : 'done'" /></td>
    </template>
    <template #empty>
      <EmptyState title="No reviews yet">
        Create a review to have application owners check who still needs access.
      </EmptyState>
    </template>
  </PagedTable>
  <FormDialog v-model="asking" title="Create review" act="Create" :wrong="wrong" :busy="busy" @done="begin">
    <v-text-field v-model="label" label="Name of the review" autocomplete="off" />
    <v-autocomplete v-model="application" :items="applications" label="Application (empty: all)" clearable />
    <v-select v-model="part" :items="parts" label="Scope" />
    <v-text-field v-model="until" type="date" label="Due date" persistent-placeholder />
    <v-text-field v-model="note" label="Note" />
  </FormDialog>
</template>
