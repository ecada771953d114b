<script setup lang="ts">
// The drift of an application: reconciliation, repair, linking and ignored differences.
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
import AccountsComparison from './AccountsComparison.vue'
import AdoptDialog from './AdoptDialog.vue'

type Line = Schemas['DriftLine']
const props = defineProps<{ application: Schemas['Application'] }>()
const queries = useQueryClient()
const path = { key: props.application.key }
const { wrong, attempt } = useAttempts()
const words = {
  missing: 'account is missing',
  unexpected: 'account without a user',
  attributes: 'attributes differ',
  role: 'role differs',
  status: 'active status differs',
  group_missing: 'group is missing',
  group_name: 'group name differs',
  group_members: 'group members differ',
  group_unexpected: 'group not created by Dravo',
}
type Kind = keyof typeof words
/** Accounts without a user are linked or ignored, never repaired. */
const foreign = new Set<string>(['unexpected', 'group_unexpected'])
const kind = ref<Kind | null>(null)
const ignored = ref(false)
const about = computed(() => ({
  kind: kind.value ?? undefined,
  status: ignored.value ? ('ignored' as const) : undefined,
}))
const fetch = (after: string | undefined, count: number) =>
  answered(
    api.GET('/api/v1/applications/{key}/drift', {
      params: { path, query: { after, count, ...about.value } },
    }),
  )
const runs = useQuery({
  queryKey: ['runs', props.application.key],
  queryFn: () =>
    answered(
      api.GET('/api/v1/applications/{key}/reconciliation/runs', { params: { path, query: { count: 5 } } }),
    ),
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
/** Shows once more what a repair would do to the selected rows. */
async function look(ids: string[]): Promise<void> {
  await attempt(async () => {
    const found = await answered(
      api.GET('/api/v1/applications/{key}/drift', {
        params: { path, query: { count: 500, ...about.value } },
      }),
    )
    lines.value = found.items.filter((each) => ids.includes(each.id) && !foreign.has(each.kind))
    looking.value = true
  })
}
async function allOfOurs(): Promise<void> {
  await attempt(async () => {
    const query = { count: 500, kind: kind.value ?? undefined, status: 'open' as const }
    const found = await answered(api.GET('/api/v1/applications/{key}/drift', { params: { path, query } }))
    lines.value = found.items.filter((each) => !foreign.has(each.kind))
    looking.value = true
  })
}
const repair = () =>
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

const adopting = ref(false)
const toAdopt = ref<string[]>([])
async function adoptAll(): Promise<void> {
  await attempt(async () => {
    const query = { count: 500, kind: 'unexpected' as const, status: 'open' as const }
    const found = await answered(api.GET('/api/v1/applications/{key}/drift', { params: { path, query } }))
    toAdopt.value = found.items.map((each) => each.id)
    adopting.value = toAdopt.value.length > 0
  })
}
const whole = ref(false)
const linking = ref(false)
const stranger = ref<Line | null>(null)
const user = ref<string | null>(null)
const link = () =>
  attempt(async () => {
    const params = { path: { ...path, id: stranger.value?.id ?? '' } }
    await answered(
      api.POST('/api/v1/applications/{key}/drift/{id}/link', { params, body: { user: user.value ?? '' } }),
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
    <v-btn color="primary" :disabled="Boolean(underWay)" @click="compare">Reconcile now</v-btn>
    <div v-if="last" role="status">
      <template v-if="underWay">
        <StatusLabel status="waiting" /> {{ last.progress.toLocaleString('en') }} accounts read
        <v-btn size="small" variant="outlined" @click="stop(last.id)">Stop</v-btn>
      </template>
      <template v-else>
        <StatusLabel :status="last.status" /> reconciled <TimeLabel :at="last.ended_at" /> by
        {{ last.requested_by }}:
        <template v-if="last.status === 'done'"
          >{{ last.read.toLocaleString('en') }} accounts{{
            last.groups ? ` and ${last.groups} provisioned groups` : ''
          }}
          read</template
        >
        <template v-else>{{ last.message }} {{ last.hint }}</template>
      </template>
    </div>
    <span v-if="application.settings.reconcile_schedule" class="quiet" :title="times"
      >{{ application.settings.reconcile_schedule_words }} (UTC), next
      <TimeLabel :at="application.settings.reconcile_next_at"
    /></span>
    <span v-else class="quiet">No schedule. Set one under Settings.</span>
  </div>
  <ErrorMessage :wrong="wrong" />
  <v-switch v-model="whole" label="All accounts beside the desired ones" color="primary" hide-details />
  <AccountsComparison v-if="whole" :application="application.key" />
  <div v-if="!whole" class="row filters">
    <v-select v-model="kind" :items="Object.keys(words)" label="Kind" clearable class="narrow" />
    <v-checkbox v-model="ignored" label="Ignored differences" />
    <v-btn v-if="!ignored" variant="outlined" @click="allOfOurs">Repair all</v-btn>
    <v-btn v-if="!ignored" variant="outlined" @click="adoptAll">Adopt all</v-btn>
    <v-btn v-if="chosen.length" variant="outlined" @click="look(chosen)">Repair {{ chosen.length }}</v-btn>
    <v-btn v-if="chosen.length" variant="outlined" @click="ignore(chosen, !ignored)">
      {{ ignored ? 'Stop ignoring' : 'Ignore' }} {{ chosen.length }}
    </v-btn>
  </div>
  <PagedTable
    v-if="!whole"
    :name="`drift-${application.key}`"
    caption="Drift"
    :columns="[
      'Select',
      'Account or group',
      'Difference',
      'In the application',
      'Desired',
      'Status',
      'Since',
      '',
    ]"
    :fetch="fetch"
    :about="about"
    :refresh="3000"
  >
    <template #row="{ item }">
      <td>
        <v-checkbox-btn
          v-model="chosen"
          :value="item.id"
          :aria-label="`Select ${item.name}, ${words[item.kind as keyof typeof words] ?? item.kind}`"
        />
      </td>
      <td>
        <router-link v-if="item.user" :to="`/users/${item.user}`">{{ item.name }}</router-link>
        <template v-else>{{ item.name }}</template>
      </td>
      <td>
        {{ words[item.kind as Kind] ?? item.kind }}
      </td>
      <td>
        <template v-if="item.kind === 'unexpected'">
          <span class="mono">{{ told(item.there.userName) }}</span>
          <div class="quiet">{{ item.there.active === false ? 'inactive' : 'active' }}</div>
          <div v-if="item.message" class="quiet">{{ item.message }} {{ item.hint }}</div>
        </template>
        <template v-if="item.kind === 'group_members'">
          <div v-if="item.changes[0]?.before">also {{ told(item.changes[0].before) }}</div>
        </template>
        <template v-else-if="item.kind === 'group_unexpected'">
          <div v-if="item.changes[0]?.before">with {{ told(item.changes[0].before) }}</div>
          <div v-else>a group without users of Dravo</div>
        </template>
        <div v-for="each in item.changes" v-else :key="each.attribute">
          <b>{{ each.attribute }}</b>: {{ told(each.before) }}
        </div>
      </td>
      <td>
        <template v-if="item.kind === 'group_members'">
          <div v-if="item.changes[0]?.after">with {{ told(item.changes[0].after) }}</div>
          <div v-else>without them</div>
        </template>
        <template v-else-if="item.kind === 'group_unexpected'">nothing</template>
        <div v-for="each in item.changes" v-else :key="each.attribute">
          <b>{{ each.attribute }}</b>: {{ told(each.after) }}
        </div>
        <template v-if="item.kind === 'missing'">an account</template>
        <template v-if="item.kind === 'group_missing'">a group</template>
      </td>
      <td><StatusLabel :status="item.status === 'repaired' ? 'in_sync' : item.status" /></td>
      <td><TimeLabel :at="item.first_seen_at" /></td>
      <td class="buttons">
        <v-btn
          v-if="item.kind === 'unexpected'"
          size="small"
          variant="outlined"
          @click="((stranger = item), (user = null), (wrong = null), (linking = true))"
          >Link</v-btn
        >
        <v-btn
          v-if="item.kind === 'unexpected' && item.there.active !== false"
          size="small"
          variant="outlined"
          @click="((stranger = item), (role = null), (typed = ''), (wrong = null), (making = true))"
          >Create user</v-btn
        >
        <v-btn
          v-if="!foreign.has(item.kind) && item.status === 'open'"
          size="small"
          variant="outlined"
          @click="look([item.id])"
          >Repair</v-btn
        >
      </td>
    </template>
    <template #empty>
      <EmptyState :title="ignored ? 'No ignored differences' : last ? 'No drift' : 'Not reconciled yet'">
        Reconciliation reads the accounts and groups of the application and lists what was changed outside
        Dravo.
      </EmptyState>
    </template>
  </PagedTable>
  <FormDialog
    v-model="looking"
    :title="`Repair ${lines.length} ${lines.length === 1 ? 'difference' : 'differences'}?`"
    act="Repair"
    :wrong="wrong"
    wide
    @done="repair"
  >
    <ul class="list">
      <li v-for="line in lines.slice(0, 100)" :key="line.id">
        <b>{{ line.name }}</b>:
        <template v-if="line.kind === 'missing'">create the account</template>
        <template v-else-if="line.kind === 'group_missing'">create the group with its members</template>
        <template v-else-if="line.kind === 'group_members'">
          <span v-for="each in line.changes" :key="each.attribute">
            <template v-if="each.after">add {{ told(each.after) }} </template>
            <template v-if="each.before">remove {{ told(each.before) }}</template>
          </span>
        </template>
        <template v-else>
          <span v-for="each in line.changes" :key="each.attribute"
            >{{ each.attribute }} becomes {{ told(each.after) }}
          </span>
        </template>
      </li>
    </ul>
    <p v-if="!lines.length" class="quiet">Dravo cannot repair the selected differences.</p>
  </FormDialog>
  <AdoptDialog v-model="adopting" :application="application.key" :ids="toAdopt" />
  <FormDialog
    v-model="linking"
    :title="`Link account “${stranger?.name}” to a user`"
    act="Link"
    :wrong="wrong"
    @done="link"
  >
    <p class="quiet">
      Dravo then updates the account to the user's desired state. The user needs a role in this application.
    </p>
    <UserSelect v-model="user" label="User" />
  </FormDialog>
  <FormDialog
    v-model="making"
    :title="`Create a user for account “${stranger?.name}”`"
    act="Create user"
    :wrong="wrong"
    @done="makeUser"
  >
    <p class="quiet">
      Dravo creates a local user, assigns the role that the account has, and links the account.
    </p>
    <v-select v-model="role" :items="roles" label="Role (empty: the role of the account)" clearable />
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
