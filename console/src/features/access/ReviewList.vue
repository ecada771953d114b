<script setup lang="ts">
// Access reviews: those that there were, and beginning one.
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
  { title: 'Every access', value: 'all' },
  { title: 'The highest roles', value: 'highest role' },
  { title: 'What is assigned to people themselves only', value: 'direct only' },
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
  only: part.value === 'all' ? null : (part.value as 'highest role' | 'direct only'),
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
    <v-btn v-if="may('reviews.change')" color="primary" @click="ask">Begin a review</v-btn>
    <span class="quiet">
      Each application's owner looks through who has what, confirms it or takes it away, until a day. What was decided
      is kept.
    </span>
  </div>
  <PagedTable
    name="reviews"
    caption="Reviews"
    :columns="['Review', 'Until', 'Still open', 'Confirmed', 'Taken away', 'State']"
    :fetch="fetch"
    :about="{}"
    :refresh="8000"
  >
    <template #row="{ item }">
      <td>
        <router-link :to="`/reviews/${item.id}`">{{ item.label }}</router-link>
        <div class="quiet">begun by {{ item.created_by }}, <TimeLabel :at="item.created_at" /></div>
      </td>
      <td>{{ item.until_day }}</td>
      <td>{{ item.open.toLocaleString('en') }} of {{ item.rows.toLocaleString('en') }}</td>
      <td>{{ item.confirmed.toLocaleString('en') }}</td>
      <td>{{ item.taken_away.toLocaleString('en') }}</td>
      <td><StatusLabel :state="item.closed_at ? 'ended' : item.open ? 'open' : 'done'" /></td>
    </template>
    <template #empty>
      <EmptyState title="There was no review yet">
        Begin one to have owners look through who still needs what they have.
      </EmptyState>
    </template>
  </PagedTable>
  <FormDialog v-model="asking" title="What is looked through?" act="Begin it" :wrong="wrong" :busy="busy" @done="begin">
    <v-text-field v-model="label" label="Name of the review" autocomplete="off" />
    <v-autocomplete v-model="application" :items="applications" label="Application (all, unless chosen)" clearable />
    <v-select v-model="part" :items="parts" label="Which part" />
    <v-text-field v-model="until" type="date" label="Last day of deciding" persistent-placeholder />
    <v-text-field v-model="note" label="Note" />
  </FormDialog>
</template>
