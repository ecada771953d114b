<script setup lang="ts">
// The import runs of a source: preview, start, progress, and the entries of each run.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, ApiProblem, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { told } from '../../app/attributeValues'
import { inWords } from '../../app/words'
import FormDialog from '../../components/FormDialog.vue'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import ImportRunBars from './ImportRunBars.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

type Run = Schemas['ImportRun']
const props = defineProps<{ source: string; label: string; reading: Schemas['ImportSettings'] }>()
const queries = useQueryClient()
const path = { key: props.source }
const { wrong, attempt } = useAttempts()
const runs = useQuery({
  queryKey: ['sources', props.source, 'runs'],
  queryFn: () =>
    answered(api.GET('/api/v1/sources/{key}/import/runs', { params: { path, query: { count: 20 } } })),
  refetchInterval: 1000,
})
const last = computed(() => runs.data.value?.items[0])
const underWay = computed(() => last.value !== undefined && last.value.ended_at === null)
const chosen = ref<string | null>(null)
const shown = computed(() => runs.data.value?.items.find((each) => each.id === chosen.value) ?? last.value)
watch(
  () => last.value?.ended_at,
  () => void queries.invalidateQueries({ queryKey: ['sources'] }),
)
async function begin(body: {
  preview?: boolean
  allow_removals?: boolean
  confirm?: string
  whole?: boolean
}): Promise<boolean> {
  const request = () =>
    answered(api.POST('/api/v1/sources/{key}/import/runs', { params: { path }, body: body as never }))
  const fine = await attempt(request)
  if (fine) {
    chosen.value = null
    await queries.invalidateQueries({ queryKey: ['sources', props.source] })
  }
  return fine
}
const stop = (run: string) =>
  attempt(() =>
    answered(
      api.POST('/api/v1/sources/{key}/import/runs/{run}/stop', { params: { path: { ...path, run } } }),
    ),
  )
const leaving = ref(false)
const typed = ref('')
async function letLeave(): Promise<void> {
  if (await begin({ allow_removals: true, confirm: typed.value })) leaving.value = false
}
const kind = ref<string | null>(null)
watch(shown, (now, before) => now?.id !== before?.id && (kind.value = null))
const about = computed(() => ({
  run: shown.value?.id,
  kind: kind.value ?? undefined,
  status: shown.value?.status,
}))
const fetch = (after: string | undefined, count: number) =>
  answered(
    api.GET('/api/v1/sources/{key}/import/runs/{run}/entries', {
      params: {
        path: { ...path, run: shown.value?.id ?? '' },
        query: { after, count, kind: kind.value ?? undefined },
      },
    }),
  )
/** A missing user may be an entry that could not be read: then removals cannot be approved. */
const unreadable = computed(() => shown.value?.counts.some((each) => each.name === 'unreadable'))
const percent = (run: Run) => (run.expected ? Math.min(100, (100 * run.progress) / run.expected) : 0)
const kinds = [
  'new',
  'changed',
  'back',
  'left',
  'missing',
  'conflict',
  'refused',
  'unreadable',
  'members',
  'group_new',
  'group_renamed',
  'group_deleted',
].map((value) => ({ value, title: inWords(value) }))
</script>

<template>
  <section class="panel" aria-labelledby="runs">
    <h2 id="runs" class="visually-hidden">Import runs</h2>
    <div class="row">
      <v-btn v-if="reading.enabled" color="primary" :disabled="underWay" @click="begin({})">Run now</v-btn>
      <v-btn variant="outlined" :disabled="underWay" @click="begin({ preview: true })">Preview run</v-btn>
      <span v-if="!reading.enabled" class="quiet">
        The import is disabled. <router-link :to="`/sources/${source}/policy`">Enable it</router-link> when
        the preview is right.
      </span>
      <span v-else-if="reading.next_at.length" class="quiet"
        >{{ reading.schedule_words }}, next <TimeLabel :at="reading.next_at[0]!"
      /></span>
    </div>
    <p v-if="reading.warning" role="note" class="warning">{{ reading.warning }}</p>
    <ErrorMessage :wrong="wrong ?? runs.error.value" />
    <div v-if="last && underWay" role="status" class="underway">
      <StatusLabel :status="last.status" />
      {{ last.progress.toLocaleString('en') }} read<template v-if="last.expected">
        of about {{ last.expected.toLocaleString('en') }}</template
      >, {{ last.per_second.toLocaleString('en') }} per second<template v-if="last.seconds_left !== null"
        >, about {{ last.seconds_left }} seconds left</template
      >
      <v-btn size="small" variant="outlined" @click="stop(last.id)">Stop</v-btn>
      <v-progress-linear
        :model-value="percent(last)"
        :indeterminate="!last.expected"
        color="primary"
        height="6"
        aria-label="Progress"
      />
    </div>
    <ImportRunBars
      v-if="runs.data.value && runs.data.value.items.length > 1"
      :runs="runs.data.value.items"
      :chosen="shown?.id"
      @choose="chosen = $event"
    />
    <EmptyState v-if="runs.data.value && !last" title="No runs yet">
      A preview reads everything and shows what a run would do. It changes nothing.
    </EmptyState>
  </section>
  <section v-if="shown && shown.ended_at" class="panel" aria-labelledby="one">
    <h2 id="one">
      {{ shown.preview ? 'Preview' : 'Run' }} of <TimeLabel :at="shown.started_at ?? shown.requested_at" />
    </h2>
    <p>
      <StatusLabel :status="shown.status" /> {{ shown.whole ? 'Full' : 'Changes only' }}, started by
      {{ shown.requested_by }}. <template v-if="shown.preview">Nothing was changed.</template>
    </p>
    <p v-if="shown.message">
      <b>{{ shown.message }}</b> {{ shown.hint }}
    </p>
    <v-btn
      v-if="shown.status === 'held' && shown.id === last?.id && reading.enabled && !unreadable"
      variant="outlined"
      class="let"
      @click="((typed = ''), (wrong = null), (leaving = true))"
      >Approve removals</v-btn
    >
    <dl class="counts">
      <div v-for="each in shown.counts" :key="each.name">
        <dt>{{ inWords(each.name) }}</dt>
        <dd>{{ each.number.toLocaleString('en') }}</dd>
      </div>
    </dl>
    <ul v-if="shown.access.length">
      <li v-for="each in shown.access" :key="each.application + each.role">
        {{ each.application }}, {{ each.role }}: {{ each.gained.toLocaleString('en') }} would gain it,
        {{ each.lost.toLocaleString('en') }} would lose it
      </li>
    </ul>
    <v-select v-model="kind" :items="kinds" label="Filter" clearable class="narrow" />
    <PagedTable
      :name="`lines-${source}`"
      caption="Run entries"
      :columns="['Result', 'Name', 'Before and after']"
      :fetch="fetch"
      :about="about"
    >
      <template #row="{ item }">
        <td><StatusLabel :status="item.kind" /></td>
        <td>
          <router-link v-if="item.user" :to="`/users/${item.user}`">{{ item.name }}</router-link>
          <template v-else>{{ item.name }}</template>
        </td>
        <td>
          <div v-for="each in item.changes" :key="each.attribute">
            <b>{{ each.attribute.split(':').pop() }}</b>: {{ told(each.before) }} → {{ told(each.after) }}
          </div>
          {{ item.message }}
        </td>
      </template>
      <template #empty
        ><p class="quiet">{{ kind ? 'No matching entries.' : 'The run changed nothing.' }}</p></template
      >
    </PagedTable>
  </section>
  <FormDialog
    v-model="leaving"
    title="Process all missing users as leavers?"
    act="Run and approve"
    serious
    :wrong="wrong instanceof ApiProblem && wrong.problem.code === 'needs_confirmation' ? null : wrong"
    :waiting="typed !== label"
    @done="letLeave"
  >
    <p>{{ shown?.message }}</p>
    <p>Dravo runs the import again. Users who are still missing lose their groups, roles and accounts.</p>
    <v-text-field v-model="typed" :label="`Type ${label} to confirm`" autocomplete="off" />
  </FormDialog>
</template>

<style scoped>
.warning {
  border-left: 4px solid rgb(var(--v-theme-look));
  margin: 12px 0;
  padding-left: 12px;
}
.underway {
  margin: 12px 0;
}
.counts {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 26px;
  margin: 10px 0 14px;
}
.counts dt {
  color: rgb(var(--v-theme-rest));
  font-size: 14px;
}
.counts dd {
  margin: 0;
  font-size: 20px;
  font-weight: 700;
}
.narrow {
  max-width: 240px;
}
.let {
  margin-bottom: 10px;
}
.panel + .panel {
  margin-top: 12px;
}
</style>
