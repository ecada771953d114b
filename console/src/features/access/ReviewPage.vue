<script setup lang="ts">
import { mdiMagnify } from '@mdi/js'
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import type { Sure } from '../../app/assignments'
import { useAttempts } from '../../app/actions'
import { useAddressFilter, useWords } from '../../app/addressFilters'
import { useMay } from '../../app/session'
import BusyButton from '../../components/BusyButton.vue'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import PreviewDialog from '../../components/PreviewDialog.vue'
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
// One application at a time: each is decided by its own owner.
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
  chosen.value = [...new Set(shown.value.filter((each) => !each.decision).map((each) => each.id))].slice(0, 500)
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
const decide = (what: NonNullable<Decision>, said: Partial<Sure> = {}) =>
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
async function confirm(): Promise<void> {
  if (await attempt(() => decide('confirmed'))) done()
}
const taking = ref(false)
const wanted = computed(() =>
  chosen.value.length ? { rows: chosen.value, application: application.value ?? '' } : null,
)
const look = () =>
  answered(
    api.POST('/api/v1/reviews/{id}/preview', { params: { path }, body: wanted.value ?? { rows: [], application: '' } }),
  )
const close = () => attempt(() => answered(api.POST('/api/v1/reviews/{id}/close', { params: { path } })))
const narrowed = computed(() =>
  Object.entries(data.value?.narrowed ?? {})
    .map(([, value]) => value)
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
            <StatusLabel :state="data.closed_at ? 'ended' : data.open ? 'open' : 'done'" />
            <template v-if="data.closed_at">
              · ended <TimeLabel :at="data.closed_at" /> by {{ data.closed_by }}</template
            >
            <template v-else> · decided until {{ data.until_day }}</template>
            · begun by {{ data.created_by }} <TimeLabel :at="data.created_at" />
            <template v-if="narrowed"> · {{ narrowed }}</template>
            <template v-if="data.note"> · {{ data.note }}</template>
          </p>
        </div>
        <v-btn v-if="may('audit.read')" variant="text" :href="`/api/v1/reviews/${id}/export?form=csv`"
          >Save as CSV</v-btn
        >
        <v-btn v-if="open && may('reviews.change')" variant="outlined" @click="close">End it now</v-btn>
      </div>
      <section class="panel" aria-labelledby="parts">
        <h2 id="parts">How far it is</h2>
        <table class="plain">
          <thead>
            <tr>
              <th scope="col">Application</th>
              <th scope="col">Owner</th>
              <th scope="col" class="number">Open</th>
              <th scope="col" class="number">Confirmed</th>
              <th scope="col" class="number">Taken away</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="each in data.applications" :key="each.application.key">
              <td>
                <router-link :to="`/applications/${each.application.key}`">{{ each.application.label }}</router-link>
              </td>
              <td>{{ each.owner }}</td>
              <td class="number">{{ each.open.toLocaleString('en') }}</td>
              <td class="number">{{ each.confirmed.toLocaleString('en') }}</td>
              <td class="number">{{ each.taken_away.toLocaleString('en') }}</td>
            </tr>
          </tbody>
        </table>
      </section>
      <section class="panel" aria-labelledby="rows">
        <h2 id="rows">Who has what, and should they?</h2>
        <ErrorMessage :wrong="wrong" />
        <div class="row filters">
          <v-select v-model="application" :items="choices" label="Application" class="wide" />
          <v-text-field v-model="typed" :prepend-inner-icon="mdiMagnify" label="Person" clearable class="words" />
          <v-select
            v-model="decision"
            :items="['open', 'confirmed', 'taken away']"
            label="Decision"
            clearable
            class="narrow"
          />
        </div>
        <div v-if="open && may('assignments.change')" class="row filters">
          <v-btn variant="outlined" @click="chooseAll">Choose all shown that are open</v-btn>
          <v-text-field v-model="note" label="Note on what is decided" class="words" />
          <BusyButton color="primary" :disabled="!chosen.length" :busy="busy" @click="confirm"
            >Confirm {{ chosen.length || '' }}</BusyButton
          >
          <v-btn variant="outlined" :disabled="!chosen.length" @click="taking = true"
            >Take away {{ chosen.length || '' }}</v-btn
          >
        </div>
        <PagedTable
          v-if="application"
          name="review-rows"
          caption="Rows of the review"
          :columns="['Choose', 'Person', 'Role', 'Since', 'Because of', 'Decision']"
          :fetch="fetch"
          :about="shownAbout"
        >
          <template #row="{ item }">
            <td>
              <v-checkbox-btn
                v-if="open && item.decision !== 'taken away'"
                v-model="chosen"
                density="compact"
                :value="item.id"
                :aria-label="`Choose ${item.person.display_name}, ${item.role.label}`"
              />
            </td>
            <td>
              <router-link :to="`/users/${item.person.id}`">{{ item.person.display_name }}</router-link>
              <StatusLabel v-if="item.state !== 'active'" :state="item.state" />
            </td>
            <td>{{ item.role.label }}</td>
            <td><TimeLabel :at="item.since" /></td>
            <td class="quiet">{{ item.reasons.join('; ') }}</td>
            <td>
              <template v-if="item.decision">
                <StatusLabel :state="item.decision" />
                <div class="quiet">
                  {{ item.decided_by }}, <TimeLabel :at="item.decided_at" /><template v-if="item.note">
                    · {{ item.note }}</template
                  >
                </div>
                <div v-if="item.outcome">{{ item.outcome }}</div>
              </template>
              <StatusLabel v-else state="open" />
            </td>
          </template>
          <template #empty>
            <EmptyState title="Nothing fits">Choose another application or decision.</EmptyState>
          </template>
        </PagedTable>
      </section>
      <PreviewDialog
        v-model="taking"
        :title="`Take away ${chosen.length} ${chosen.length === 1 ? 'access' : 'accesses'}?`"
        act="Take it away"
        :about="wanted"
        :look="look"
        :carry-out="(said) => decide('taken away', said)"
        grave
        @done="done"
      >
        <p class="quiet">
          What was assigned to a person is taken away. Whoever has it by a group or a rule is kept out, unless another
          role of theirs stays.
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
