<script setup lang="ts">
import { mdiMagnify } from '@mdi/js'
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import type { Confirmation } from '../../app/assignments'
import { useAttempts } from '../../app/actions'
import { useAddressFilter, useWords } from '../../app/addressFilters'
import { useMay } from '../../app/session'
import BusyButton from '../../components/BusyButton.vue'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import PreviewDialog from '../../components/PreviewDialog.vue'
import { inWords } from '../../app/words'
import ErrorMessage from '../../components/ErrorMessage.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ id: string }>()
const may = useMay()
const path = { id: props.id }
const review = useQuery({
  queryKey: ['reviews', props.id],
  queryFn: () => answered(api.GET('/api/v1/reviews/{id}', { params: { path } })),
  refetchInterval: 5000,
})
const data = computed(() => review.data.value)
const open = computed(() => Boolean(data.value && !data.value.closed_at))

const { typed, words } = useWords()
const application = useAddressFilter('application')
const decision = useAddressFilter('decision')
// One application at a time, because each has its own owner.
watch(data, (now) => {
  if (now && !application.value) application.value = now.applications[0]?.application.key
})
const about = computed(() => ({
  application: application.value,
  decision: decision.value as 'open' | undefined,
  q: words.value,
}))
const shown = ref<Schemas['ReviewRow'][]>([])
async function fetch(after: string | undefined, count: number) {
  const query = { after, count, ...about.value }
  const page = await answered(api.GET('/api/v1/reviews/{id}/rows', { params: { path, query } }))
  shown.value = after ? [...shown.value, ...page.items] : page.items
  return page
}
function chooseAll(): void {
  chosen.value = [...new Set(shown.value.filter((each) => !each.decision).map((each) => each.id))].slice(
    0,
    500,
  )
}
const choices = computed(
  () =>
    data.value?.applications.map((each) => ({
      title: `${each.application.label} (${each.open.toLocaleString('en')} open)`,
      value: each.application.key,
    })) ?? [],
)

const chosen = ref<string[]>([])
watch(application, () => (chosen.value = []))
const note = ref('')
const { wrong, busy, attempt } = useAttempts()
const changed = ref(0)
const shownAbout = computed(() => ({ ...about.value, changed: changed.value }))
type Decision = Schemas['ReviewRow']['decision']
const decide = (what: NonNullable<Decision>, said: Partial<Confirmation> = {}) =>
  answered(
    api.POST('/api/v1/reviews/{id}/decide', {
      params: { path },
      body: {
        application: application.value ?? '',
        rows: chosen.value,
        decision: what,
        note: note.value || null,
        ...said,
      },
    }),
  )
function done(): void {
  chosen.value = []
  note.value = ''
  changed.value++
}
// Clears the selection before the rows load again, so that it does not clear what is selected meanwhile.
const confirm = () => attempt(() => decide('confirmed').then(done))
const taking = ref(false)
const wanted = computed(() =>
  chosen.value.length ? { rows: chosen.value, application: application.value ?? '' } : null,
)
const look = () =>
  answered(
    api.POST('/api/v1/reviews/{id}/preview', {
      params: { path },
      body: wanted.value ?? { rows: [], application: '' },
    }),
  )
const close = () => attempt(() => answered(api.POST('/api/v1/reviews/{id}/close', { params: { path } })))
const narrowed = computed(() =>
  Object.entries(data.value?.narrowed ?? {})
    .map(([, value]) => inWords(value))
    .join(', '),
)
</script>

<template>
  <div class="page">
    <ErrorMessage :wrong="review.error.value" />
    <template v-if="data">
      <div class="head">
        <div class="grow">
          <h1>{{ data.label }}</h1>
          <p class="lead">
            <StatusLabel :status="data.closed_at ? 'ended' : data.open ? 'open' : 'done'" />
            <template v-if="data.closed_at">
              · ended <TimeLabel :at="data.closed_at" /> by {{ data.closed_by }}</template
            >
            <template v-else> · due {{ data.until_day }}</template>
            · created by {{ data.created_by }} <TimeLabel :at="data.created_at" />
            <template v-if="narrowed"> · {{ narrowed }}</template>
            <template v-if="data.note"> · {{ data.note }}</template>
          </p>
        </div>
        <v-btn v-if="may('audit.read')" variant="text" :href="`/api/v1/reviews/${id}/export?form=csv`"
          >Download CSV</v-btn
        >
        <v-btn v-if="open && may('reviews.change')" variant="outlined" @click="close">End review</v-btn>
      </div>
      <section class="panel" aria-labelledby="parts">
        <h2 id="parts">Progress by application</h2>
        <table class="plain">
          <thead>
            <tr>
              <th scope="col">Application</th>
              <th scope="col">Owner</th>
              <th scope="col" class="number">Open</th>
              <th scope="col" class="number">Confirmed</th>
              <th scope="col" class="number">Removed</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="each in data.applications" :key="each.application.key">
              <td>
                <router-link :to="`/applications/${each.application.key}`">{{
                  each.application.label
                }}</router-link>
              </td>
              <td>{{ each.owner }}</td>
              <td class="number">{{ each.open.toLocaleString('en') }}</td>
              <td class="number">{{ each.confirmed.toLocaleString('en') }}</td>
              <td class="number">{{ each.removed.toLocaleString('en') }}</td>
            </tr>
          </tbody>
        </table>
      </section>
      <section class="panel" aria-labelledby="rows">
        <h2 id="rows">Access to review</h2>
        <ErrorMessage :wrong="wrong" />
        <div class="row filters">
          <v-select v-model="application" :items="choices" label="Application" class="wide" />
          <v-text-field
            v-model="typed"
            :prepend-inner-icon="mdiMagnify"
            label="User"
            clearable
            class="words"
          />
          <v-select
            v-model="decision"
            :items="['open', 'confirmed', 'removed']"
            label="Decision"
            clearable
            class="narrow"
          />
        </div>
        <div v-if="open && may('assignments.change')" class="row filters">
          <v-btn variant="outlined" @click="chooseAll">Select all open rows shown</v-btn>
          <v-text-field v-model="note" label="Note on the decision" class="words" />
          <BusyButton color="primary" :disabled="!chosen.length" :busy="busy" @click="confirm"
            >Confirm {{ chosen.length || '' }}</BusyButton
          >
          <v-btn variant="outlined" :disabled="!chosen.length" @click="taking = true"
            >Remove {{ chosen.length || '' }}</v-btn
          >
        </div>
        <PagedTable
          v-if="application"
          name="review-rows"
          caption="Access to review"
          :columns="['Select', 'User', 'Role', 'Since', 'Reason', 'Decision']"
          :fetch="fetch"
          :about="shownAbout"
        >
          <template #row="{ item }">
            <td>
              <v-checkbox-btn
                v-if="open && item.decision !== 'removed'"
                v-model="chosen"
                density="compact"
                :value="item.id"
                :aria-label="`Select ${item.user.display_name}, ${item.role.label}`"
              />
            </td>
            <td>
              <router-link :to="`/users/${item.user.id}`">{{ item.user.display_name }}</router-link>
              <StatusLabel v-if="item.status !== 'active'" :status="item.status" />
            </td>
            <td>{{ item.role.label }}</td>
            <td><TimeLabel :at="item.since" /></td>
            <td class="quiet">{{ item.reasons.join('; ') }}</td>
            <td>
              <template v-if="item.decision">
                <StatusLabel :status="item.decision" />
                <div class="quiet">
                  {{ item.decided_by }}, <TimeLabel :at="item.decided_at" /><template v-if="item.note">
                    · {{ item.note }}</template
                  >
                </div>
                <div v-if="item.outcome">{{ item.outcome }}</div>
              </template>
              <StatusLabel v-else status="open" />
            </td>
          </template>
          <template #empty>
            <EmptyState title="No matching rows">Choose another application or decision.</EmptyState>
          </template>
        </PagedTable>
      </section>
      <PreviewDialog
        v-model="taking"
        :title="`Remove access in ${chosen.length} ${chosen.length === 1 ? 'row' : 'rows'}?`"
        act="Remove"
        :about="wanted"
        :look="look"
        :carry-out="(said) => decide('removed', said)"
        serious
        @done="done"
      >
        <p class="quiet">
          Dravo deletes direct assignments. Users who have the role through a group or a rule are excluded
          from the application, unless they keep another role in it.
        </p>
      </PreviewDialog>
    </template>
  </div>
</template>

<style scoped>
.wide {
  flex: 0 1 320px;
}
</style>
