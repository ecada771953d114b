<script setup lang="ts">
// The conflicts of a source, with the possible users and decisions.
import { useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { told } from '../../app/attributeValues'
import FormDialog from '../../components/FormDialog.vue'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import UserSelect from '../../components/UserSelect.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

type Conflict = Schemas['SourceConflict']
type Decision = 'link' | 'create' | 'accept' | 'ignore'
const props = defineProps<{ source: string; label: string }>()
const queries = useQueryClient()
const { wrong, attempt } = useAttempts()
const decided = ref(false)
const about = computed(() => ({ status: decided.value ? ('decided' as const) : ('open' as const) }))
const fetch = (after: string | undefined, count: number) =>
  answered(
    api.GET('/api/v1/sources/{key}/conflicts', {
      params: { path: { key: props.source }, query: { after, count, ...about.value } },
    }),
  )
const asking = ref(false)
const chosen = ref<Conflict | null>(null)
const decision = ref<Decision>('create')
const user = ref<string | null>(null)
function ask(conflict: Conflict, choice: string): void {
  chosen.value = conflict
  decision.value = choice as Decision
  user.value = conflict.candidates.length === 1 ? conflict.candidates[0]!.id : null
  wrong.value = null
  asking.value = true
}
async function decide(): Promise<void> {
  const path = { key: props.source, conflict: chosen.value?.id ?? '' }
  const body = { decision: decision.value, user: decision.value === 'link' ? user.value : null }
  if (
    await attempt(() =>
      answered(api.POST('/api/v1/sources/{key}/conflicts/{conflict}', { params: { path }, body })),
    )
  ) {
    asking.value = false
    await queries.invalidateQueries()
  }
}
const words: Record<string, string> = {
  link: 'Link',
  create: 'Create user',
  accept: 'Accept new name',
  ignore: 'Ignore',
}
const follows: Record<Decision, string> = {
  link: 'Dravo merges the record with the records of other sources. The access of the user can change through the groups of this source.',
  create: 'Dravo creates a new user without any existing access.',
  accept: 'Dravo changes the name as the source did.',
  ignore: 'Dravo ignores the record until you decide otherwise.',
}
const picked = ref<Conflict[]>([])
const several = ref(false)
const shared = ref<Decision>('link')
const failed = ref<string[]>([])
/** Decisions that all selected conflicts allow. */
const common = computed(() =>
  (['link', 'create', 'accept', 'ignore'] as Decision[]).filter(
    (each) => picked.value.length && picked.value.every((conflict) => conflict.choices.includes(each)),
  ),
)
function askSeveral(choice: Decision): void {
  shared.value = choice
  wrong.value = null
  several.value = true
}
async function decideSeveral(): Promise<void> {
  const body = { ids: picked.value.map((each) => each.id), decision: shared.value }
  await attempt(async () => {
    const params = { path: { key: props.source } }
    const done = await answered(api.POST('/api/v1/sources/{key}/conflicts', { params, body }))
    failed.value = done.failed.map((each) => `${each.name}: ${each.message}`)
    picked.value = []
    several.value = false
    await queries.invalidateQueries()
  })
}
const says = (conflict: Conflict) =>
  ['userName', 'emails', 'title']
    .filter((name) => conflict.says[name])
    .map((name) => told(conflict.says[name]))
    .join(' · ')
</script>

<template>
  <section class="panel" aria-label="Conflicts">
    <p class="quiet">
      Dravo links a record only when the match is certain. Uncertain records wait here for your decision.
    </p>
    <div class="row">
      <v-checkbox v-model="decided" label="Show decided conflicts" hide-details />
      <template v-if="picked.length">
        <v-btn v-for="each in common" :key="each" variant="outlined" @click="askSeveral(each)"
          >{{ words[each] }} ({{ picked.length }})</v-btn
        >
        <v-btn variant="text" @click="picked = []">Clear selection</v-btn>
      </template>
    </div>
    <div v-if="failed.length" role="alert" class="failed">
      <p>Not decided:</p>
      <p v-for="each in failed" :key="each">{{ each }}</p>
    </div>
    <PagedTable
      :name="`conflicts-${source}`"
      caption="Conflicts"
      :columns="['Select', 'Source record', 'Conflict', 'Possible users', 'Since', 'Decision']"
      :fetch="fetch"
      :about="about"
      :refresh="5000"
    >
      <template #row="{ item }">
        <td>
          <v-checkbox-btn
            v-if="item.status !== 'decided'"
            v-model="picked"
            density="compact"
            :value="item"
            :value-comparator="(one, other) => one.id === other.id"
            :aria-label="`Select ${item.name}`"
          />
        </td>
        <td>
          <b>{{ item.name }}</b>
          <div class="quiet">{{ says(item) }}</div>
        </td>
        <td>{{ item.message }}</td>
        <td>
          <div v-for="each in item.candidates" :key="each.id">
            <router-link :to="`/users/${each.id}`">{{ each.display_name }}</router-link>
            <div class="mono">{{ each.user_name }}</div>
            <StatusLabel :status="each.status" />
          </div>
        </td>
        <td><TimeLabel :at="item.first_seen_at" /></td>
        <td>
          <template v-if="item.status === 'decided'">
            {{ words[item.decision ?? ''] }}, by {{ item.decided_by }} <TimeLabel :at="item.decided_at" />
          </template>
          <div v-else class="buttons">
            <v-btn
              v-for="each in item.choices"
              :key="each"
              size="small"
              variant="outlined"
              :aria-label="`${words[each]}: ${item.name}`"
              @click="ask(item, each)"
              >{{ words[each] }}</v-btn
            >
          </div>
        </td>
      </template>
      <template #empty>
        <EmptyState :title="decided ? 'No decided conflicts' : 'No conflicts'">
          Conflicts appear here, such as two records for one user, the user name of a leaver, or two groups
          with the same name.
        </EmptyState>
      </template>
    </PagedTable>
    <FormDialog
      v-model="asking"
      :title="`${words[decision]}: ${chosen?.name}?`"
      :act="words[decision] ?? 'Decide'"
      :wrong="wrong"
      :waiting="decision === 'link' && !user"
      @done="decide"
    >
      <p>{{ chosen?.message }}</p>
      <UserSelect v-if="decision === 'link'" v-model="user" label="User" />
      <p class="quiet">{{ follows[decision] }}</p>
    </FormDialog>
    <FormDialog
      v-model="several"
      :title="`${words[shared]}: ${picked.length} conflicts?`"
      :act="words[shared] ?? 'Decide'"
      :wrong="wrong"
      @done="decideSeveral"
    >
      <p v-if="shared === 'link'">Dravo links each record to its only possible user.</p>
      <p class="quiet">{{ follows[shared] }}</p>
    </FormDialog>
  </section>
</template>

<style scoped>
.failed {
  border-left: 4px solid rgb(var(--v-theme-failed));
  padding-left: 12px;
}
.buttons {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
}
</style>
