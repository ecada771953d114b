<script setup lang="ts">
// In what an application differs from what should be there: compared on demand or by schedule, repaired, linked or ignored.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, ApiProblem, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { told } from '../../app/attributeValues'
import FormDialog from '../../components/FormDialog.vue'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import UserSelect from '../../components/UserSelect.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

type Line = Schemas['DriftLine']
const props = defineProps<{ application: Schemas['Application'] }>()
const queries = useQueryClient()
const path = { key: props.application.key }
const { wrong, attempt } = useAttempts()
const words = {
  missing: 'our account is not there',
  unexpected: 'belongs to nobody here',
  different: 'other attributes',
  role: 'another role',
  state: 'active or not',
  'group missing': 'our group is not there',
  'group name': 'another name',
  'group members': 'other members of ours',
  'group unexpected': 'a group that Dravo did not create',
}
type Kind = keyof typeof words
/** What belongs to nobody here is linked or ignored, and never repaired. */
const foreign = new Set<string>(['unexpected', 'group unexpected'])
const kind = ref<Kind | null>(null)
const ignored = ref(false)
const about = computed(() => ({
  kind: kind.value ?? undefined,
  state: ignored.value ? ('ignored' as const) : undefined,
}))
const fetch = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/applications/{key}/drift', { params: { path, query: { after, count, ...about.value } } }))
const runs = useQuery({
  queryKey: ['runs', props.application.key],
  queryFn: () =>
    answered(api.GET('/api/v1/applications/{key}/reconciliation/runs', { params: { path, query: { count: 5 } } })),
  refetchInterval: 1500,
})
const last = computed(() => runs.data.value?.items[0])
const underWay = computed(() => last.value && !last.value.ended_at)
watch(
  () => last.value?.ended_at,
  () => void queries.invalidateQueries(),
)

const compare = () =>
  attempt(() => answered(api.POST('/api/v1/applications/{key}/reconciliation/runs', { params: { path } })))
const stop = (id: string) =>
  attempt(() => answered(api.POST('/api/v1/reconciliation/runs/{id}/stop', { params: { path: { id } } })))

const chosen = ref<string[]>([])
const looking = ref(false)
const lines = ref<Line[]>([])
/** What repairing would do stands in each line; it is shown once more for those that were chosen. */
async function look(ids: string[]): Promise<void> {
  await attempt(async () => {
    const found = await answered(
      api.GET('/api/v1/applications/{key}/drift', { params: { path, query: { count: 500, ...about.value } } }),
    )
    lines.value = found.items.filter((each) => ids.includes(each.id) && !foreign.has(each.kind))
    looking.value = true
  })
}
async function allOfOurs(): Promise<void> {
  await attempt(async () => {
    const query = { count: 500, kind: kind.value ?? undefined, state: 'open' as const }
    const found = await answered(api.GET('/api/v1/applications/{key}/drift', { params: { path, query } }))
    lines.value = found.items.filter((each) => !foreign.has(each.kind))
    looking.value = true
  })
}
const hint = () =>
  attempt(async () => {
    const body = { ids: lines.value.map((each) => each.id) }
    await answered(api.POST('/api/v1/applications/{key}/drift/repair', { params: { path }, body }))
    looking.value = false
    chosen.value = []
  })
const ignore = (ids: string[], on: boolean) =>
  attempt(async () => {
    const body = { ids, ignored: on }
    await answered(api.POST('/api/v1/applications/{key}/drift/ignore', { params: { path }, body }))
    chosen.value = []
  })

const linking = ref(false)
const stranger = ref<Line | null>(null)
const person = ref<string | null>(null)
const link = () =>
  attempt(async () => {
    const params = { path: { ...path, id: stranger.value?.id ?? '' } }
    await answered(
      api.POST('/api/v1/applications/{key}/drift/{id}/link', { params, body: { person: person.value ?? '' } }),
    )
    linking.value = false
  })
const times = computed(() =>
  props.application.settings.reconcile_times.map((at) => at.slice(0, 16).replace('T', ' ')).join(', '),
)
const making = ref(false)
const role = ref<string | null>(null)
const typed = ref('')
const roles = computed(() => props.application.roles.map((each) => ({ title: each.label, value: each.key })))
async function makeUser(): Promise<void> {
  const params = { path: { ...path, id: stranger.value?.id ?? '' } }
  const request = () =>
    answered(
      api.POST('/api/v1/applications/{key}/drift/{id}/create-user', {
        params,
        body: { role: role.value, confirm: typed.value || null },
      }),
    )
  if (await attempt(request)) making.value = false
}
</script>

<template>
  <div class="row run">
    <v-btn color="primary" :disabled="Boolean(underWay)" @click="compare">Compare now</v-btn>
    <div v-if="last" role="status">
      <template v-if="underWay">
        <StatusLabel state="waiting" /> {{ last.progress.toLocaleString('en') }} accounts read there
        <v-btn size="small" variant="outlined" @click="stop(last.id)">Stop</v-btn>
      </template>
      <template v-else>
        <StatusLabel :state="last.state" /> compared <TimeLabel :at="last.ended_at" /> by {{ last.requested_by }}:
        <template v-if="last.state === 'done'"
          >{{ last.read.toLocaleString('en') }} accounts{{
            last.groups ? ` and ${last.groups} of our groups` : ''
          }}
          read there</template
        >
        <template v-else>{{ last.message }} {{ last.hint }}</template>
      </template>
    </div>
    <span v-if="application.settings.reconcile_at" class="quiet" :title="times"
      >{{ application.settings.reconcile_in_words }} (UTC), next
      <TimeLabel :at="application.settings.reconcile_next_at"
    /></span>
    <span v-else class="quiet">No schedule: set one under Roles and connection.</span>
  </div>
  <ErrorMessage :wrong="wrong" />
  <div class="row filters">
    <v-select v-model="kind" :items="Object.keys(words)" label="Kind" clearable class="narrow" />
    <v-checkbox v-model="ignored" label="Those that are ignored" />
    <v-btn v-if="!ignored" variant="outlined" @click="allOfOurs">Hint all of ours</v-btn>
    <v-btn v-if="chosen.length" variant="outlined" @click="look(chosen)">Hint {{ chosen.length }}</v-btn>
    <v-btn v-if="chosen.length" variant="outlined" @click="ignore(chosen, !ignored)">
      {{ ignored ? 'No longer ignore' : 'Ignore' }} {{ chosen.length }}
    </v-btn>
  </div>
  <PagedTable
    :name="`drift-${application.key}`"
    caption="Drift"
    :columns="['Choose', 'Account or group', 'Kind', 'There', 'As it should be', 'State', 'Since', '']"
    :fetch="fetch"
    :about="about"
    :refresh="3000"
  >
    <template #row="{ item }">
      <td><v-checkbox-btn v-model="chosen" :value="item.id" :aria-label="`Choose ${item.name}, ${item.kind}`" /></td>
      <td>
        <router-link v-if="item.person" :to="`/users/${item.person}`">{{ item.name }}</router-link>
        <template v-else>{{ item.name }}</template>
      </td>
      <td>
        {{ item.kind }}
        <div class="quiet">{{ words[item.kind as Kind] }}</div>
      </td>
      <td>
        <template v-if="item.kind === 'unexpected'">
          <span class="mono">{{ told(item.there.userName) }}</span>
          <div class="quiet">{{ item.there.active === false ? 'inactive' : 'active' }}</div>
        </template>
        <template v-if="item.kind === 'group members'">
          <div v-if="item.changes[0]?.before">also {{ told(item.changes[0].before) }}</div>
        </template>
        <template v-else-if="item.kind === 'group unexpected'">
          <div v-if="item.changes[0]?.before">with {{ told(item.changes[0].before) }}</div>
          <div v-else>a group without users of ours</div>
        </template>
        <div v-for="each in item.changes" v-else :key="each.attribute">
          <b>{{ each.attribute }}</b>: {{ told(each.before) }}
        </div>
      </td>
      <td>
        <template v-if="item.kind === 'group members'">
          <div v-if="item.changes[0]?.after">with {{ told(item.changes[0].after) }}</div>
          <div v-else>without them</div>
        </template>
        <template v-else-if="item.kind === 'group unexpected'">nothing</template>
        <div v-for="each in item.changes" v-else :key="each.attribute">
          <b>{{ each.attribute }}</b>: {{ told(each.after) }}
        </div>
        <template v-if="item.kind === 'missing'">an account</template>
        <template v-if="item.kind === 'group missing'">a group</template>
      </td>
      <td><StatusLabel :state="item.state === 'repaired' ? 'agreed' : item.state" /></td>
      <td><TimeLabel :at="item.first_seen_at" /></td>
      <td class="buttons">
        <v-btn
          v-if="item.kind === 'unexpected'"
          size="small"
          variant="outlined"
          @click="((stranger = item), (person = null), (wrong = null), (linking = true))"
          >Link</v-btn
        >
        <v-btn
          v-if="item.kind === 'unexpected' && item.there.active !== false"
          size="small"
          variant="outlined"
          @click="((stranger = item), (role = null), (typed = ''), (wrong = null), (making = true))"
          >Make a user</v-btn
        >
        <v-btn
          v-if="!foreign.has(item.kind) && item.state === 'open'"
          size="small"
          variant="outlined"
          @click="look([item.id])"
          >Hint</v-btn
        >
      </td>
    </template>
    <template #empty>
      <EmptyState :title="ignored ? 'Nothing is ignored' : last ? 'No difference is known' : 'Never compared'">
        Comparing reads the application's accounts and our groups there, and lists what somebody changed there by other
        hands.
      </EmptyState>
    </template>
  </PagedTable>
  <FormDialog
    v-model="looking"
    :title="`Bring ${lines.length} to what should be there?`"
    act="Hint"
    :wrong="wrong"
    wide
    @done="hint"
  >
    <ul class="list">
      <li v-for="line in lines.slice(0, 100)" :key="line.id">
        <b>{{ line.name }}</b>:
        <template v-if="line.kind === 'missing'">an account is made</template>
        <template v-else-if="line.kind === 'group missing'">the group is made, with its members</template>
        <template v-else-if="line.kind === 'group members'">
          <span v-for="each in line.changes" :key="each.attribute">
            <template v-if="each.after">put in: {{ told(each.after) }} </template>
            <template v-if="each.before">taken out: {{ told(each.before) }}</template>
          </span>
        </template>
        <template v-else>
          <span v-for="each in line.changes" :key="each.attribute"
            >{{ each.attribute }} becomes {{ told(each.after) }}
          </span>
        </template>
      </li>
    </ul>
    <p v-if="!lines.length" class="quiet">There is nothing of ours to repair here.</p>
  </FormDialog>
  <FormDialog
    v-model="linking"
    :title="`Whose account is “${stranger?.name}”?`"
    act="Link it"
    :wrong="wrong"
    @done="link"
  >
    <p class="quiet">It is then brought to what is due for that person; they need a role in this application.</p>
    <UserSelect v-model="person" label="Person" />
  </FormDialog>
  <FormDialog
    v-model="making"
    :title="`Make a user of “${stranger?.name}”?`"
    act="Make the user"
    :wrong="wrong"
    @done="makeUser"
  >
    <p class="quiet">
      They become a person of no source, with their role there as an assignment to them, and the account is theirs.
    </p>
    <v-select v-model="role" :items="roles" label="Role (as there, unless chosen)" clearable />
    <v-text-field
      v-if="wrong instanceof ApiProblem && wrong.problem.code === 'needs_confirmation'"
      v-model="typed"
      :label="`Type ${stranger?.name} to confirm`"
      autocomplete="off"
    />
  </FormDialog>
</template>

<style scoped>
.run {
  margin-bottom: 12px;
}
.narrow {
  flex: 0 1 200px;
}
.buttons > * + * {
  margin-left: 8px;
}
.list {
  max-height: 300px;
  overflow-y: auto;
}
</style>
