<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import type { Sure } from '../../app/assignments'
import { useAttempts } from '../../app/actions'
import { useApplicationChoices } from '../../app/choices'
import { useMay } from '../../app/session'
import AccessPath from '../../components/AccessPath.vue'
import BusyButton from '../../components/BusyButton.vue'
import EmptyState from '../../components/EmptyState.vue'
import LocalUserDialog from './LocalUserDialog.vue'
import UserSelect from '../../components/UserSelect.vue'
import PreviewDialog from '../../components/PreviewDialog.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import UserSessions from './UserSessions.vue'
import SignInOptions from './SignInOptions.vue'

const props = defineProps<{ id: string }>()
const person = useQuery({
  queryKey: ['people', props.id],
  queryFn: () => answered(api.GET('/api/v1/users/{person}', { params: { path: { person: props.id } } })),
  refetchInterval: 2500,
})
const data = computed(() => person.data.value)
const may = useMay()
const local = computed(() => data.value?.records.some((each) => each.connection_type === 'local' && !each.gone_at))
const changing = ref(false)
const leaving = ref(false)
const path = { person: props.id }
const removal = () => answered(api.GET('/api/v1/users/{person}/removal', { params: { path } }))
const remove = ({ confirm, expect }: Sure) =>
  answered(api.DELETE('/api/v1/users/{person}', { params: { path, query: { confirm, ...expect } } }))
const present = computed(() => data.value?.groups.filter((each) => !each.until) ?? [])

const moving = ref(false)
const moved = ref('')
const to = ref<string | null>(null)
const fresh = ref(false)
const wish = computed(() => (fresh.value || to.value ? { to: fresh.value ? null : to.value } : null))
const lookAtMove = () =>
  answered(
    api.POST('/api/v1/records/{record}/link/preview', {
      params: { path: { record: moved.value } },
      body: { to: wish.value?.to ?? null },
    }),
  )
const move = ({ confirm, expect }: Sure) =>
  answered(
    api.POST('/api/v1/records/{record}/link', {
      params: { path: { record: moved.value } },
      body: { to: wish.value?.to ?? null, confirm, expect },
    }),
  )
const { wrong, attempt } = useAttempts()
const reading = ref(false)
const readNow = ref('')
/** What a source that is read says of them at this moment, their groups too. */
async function readAnew(key: string): Promise<void> {
  reading.value = true
  readNow.value = ''
  await attempt(async () => {
    const params = { path: { key, person: props.id } }
    const run = await answered(api.POST('/api/v1/sources/{key}/users/{person}/refresh', { params }))
    const touched = run.counts.filter((each) => each.name !== 'read' && each.name !== 'unchanged')
    readNow.value = touched.length
      ? `Read: ${touched.map((each) => `${each.number} ${each.name}`).join(', ')}.`
      : 'Read: nothing has changed.'
  })
  reading.value = false
}

const applications = useApplicationChoices()
const asked = ref<string | null>(null)
const missing = computed(() => {
  const has = new Set(data.value?.access.map((each) => each.application.key))
  return applications.value.filter((each) => !has.has(each.value))
})
const answer = useQuery({
  queryKey: computed(() => ['why', props.id, asked.value]),
  enabled: computed(() => asked.value !== null),
  queryFn: () =>
    answered(
      api.GET('/api/v1/users/{person}/access/{application}', {
        params: { path: { person: props.id, application: asked.value ?? '' } },
      }),
    ),
})

/** Accounts that no access shows: what is left in an application behind it. */
const remaining = computed(() => {
  const shown = new Set(data.value?.access.map((each) => each.application.key))
  return data.value?.accounts.filter((each: Schemas['Account']) => !shown.has(each.application.key)) ?? []
})
</script>

<template>
  <div class="page">
    <ErrorMessage :wrong="person.error.value" />
    <template v-if="data">
      <div class="head">
        <div class="grow">
          <h1>{{ data.display_name }}</h1>
          <p class="lead">
            <StatusLabel :state="data.state" /> since <TimeLabel :at="data.since" /> ·
            <span class="mono">{{ data.user_name }}</span>
            <template v-if="data.email"> · {{ data.email }}</template>
            <template v-if="data.being_worked_out"> · <StatusLabel state="waiting" /> being worked out anew</template>
          </p>
        </div>
        <template v-if="local && may('people.change')">
          <v-btn variant="outlined" @click="changing = true">Change</v-btn>
          <v-btn variant="outlined" @click="leaving = true">They have left</v-btn>
        </template>
        <v-btn variant="text" :to="`/activity?person=${data.id}`">Activity</v-btn>
      </div>
      <LocalUserDialog v-model="changing" :person="data" />
      <PreviewDialog
        v-model="leaving"
        :title="`Has ${data.display_name} left?`"
        act="They have left"
        :about="data.id"
        :look="removal"
        :carry-out="remove"
        grave
      />
      <section class="panel" aria-labelledby="access">
        <h2 id="access">Access, and why</h2>
        <div v-for="each in data.access" :key="each.id" class="entry">
          <div class="what">
            <router-link :to="`/applications/${each.application.key}`">{{ each.application.label }}</router-link>
            <b>{{ each.role.label }}</b>
            <span class="quiet">since <TimeLabel :at="each.since" /></span>
          </div>
          <AccessPath :access="each" />
        </div>
        <EmptyState v-if="!data.access.length" title="No access to anything">
          {{
            data.state === 'active'
              ? 'No group that they are in gives a role, and none is assigned to them.'
              : 'Whoever is not active has no access, whatever their groups.'
          }}
        </EmptyState>
        <div class="row ask">
          <v-select v-model="asked" :items="missing" label="Why not … ?" clearable class="narrow" />
          <div v-if="answer.data.value && asked" class="told" role="status">
            <div v-for="sentence in answer.data.value.sentences" :key="sentence">{{ sentence }}</div>
          </div>
        </div>
      </section>
      <section v-if="remaining.length" class="panel" aria-labelledby="remaining">
        <h2 id="remaining">Accounts without access</h2>
        <table class="plain">
          <thead>
            <tr>
              <th scope="col">Application</th>
              <th scope="col">Should be</th>
              <th scope="col">State</th>
              <th scope="col">Id there</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="each in remaining" :key="each.id">
              <td>
                <router-link :to="`/applications/${each.application.key}/accounts`">{{
                  each.application.label
                }}</router-link>
              </td>
              <td>{{ each.should_be }}</td>
              <td>
                <router-link v-if="each.delivery" :to="`/provisioning/tasks/${each.delivery.id}`"
                  ><StatusLabel :state="each.state"
                /></router-link>
                <StatusLabel v-else :state="each.state" />
              </td>
              <td class="mono">{{ each.remote_id ?? '' }}</td>
            </tr>
          </tbody>
        </table>
      </section>
      <SignInOptions :person="data.id" />
      <UserSessions :person="data.id" />
      <div class="two">
        <section class="panel" aria-labelledby="who">
          <h2 id="who">Who they are, and which source said so</h2>
          <table class="plain">
            <thead>
              <tr>
                <th scope="col">Attribute</th>
                <th scope="col">Value</th>
                <th scope="col">Source</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="each in data.attributes" :key="each.name">
                <td>{{ each.name }}</td>
                <td class="value">{{ each.value }}</td>
                <td class="quiet">{{ each.source?.label }}</td>
              </tr>
            </tbody>
          </table>
        </section>
        <section class="panel" aria-labelledby="groups">
          <h2 id="groups">Groups</h2>
          <table v-if="present.length" class="plain">
            <thead>
              <tr>
                <th scope="col">Group</th>
                <th scope="col">Source</th>
                <th scope="col">Since</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="each in present" :key="each.group.id">
                <td>
                  <router-link :to="`/groups/${each.group.id}`">{{ each.group.name }}</router-link>
                </td>
                <td class="quiet">{{ each.source?.label }}</td>
                <td><TimeLabel :at="each.since" /></td>
              </tr>
            </tbody>
          </table>
          <p v-else class="quiet">In no group.</p>
          <template v-if="data.ended.length">
            <h2 class="gap">Access that has ended</h2>
            <table class="plain">
              <tbody>
                <tr v-for="each in data.ended.slice(0, 20)" :key="each.id">
                  <td>{{ each.application.label }}: {{ each.role.label }}</td>
                  <td class="quiet"><TimeLabel :at="each.since" /> to <TimeLabel :at="each.until" /></td>
                  <td class="quiet">{{ each.reasons.map((reason) => reason.group?.name ?? 'direct').join(', ') }}</td>
                </tr>
              </tbody>
            </table>
          </template>
          <h2 class="gap">Records</h2>
          <ErrorMessage :wrong="wrong" />
          <p v-if="readNow" role="status">{{ readNow }}</p>
          <table class="plain">
            <tbody>
              <tr v-for="each in data.records" :key="each.id">
                <td>
                  <router-link :to="`/sources/${each.source.key}`">{{ each.source.label }}</router-link>
                  <div class="mono">{{ each.external_id || each.id }}</div>
                </td>
                <td><StatusLabel :state="each.gone_at ? 'gone' : each.active ? 'active' : 'inactive'" /></td>
                <td class="quiet">
                  changed <TimeLabel :at="each.modified_at" />
                  <div v-if="each.connection_type === 'import' && !each.gone_at && may('sources.change')">
                    <BusyButton size="small" variant="outlined" :busy="reading" @click="readAnew(each.source.key)"
                      >Read anew</BusyButton
                    >
                  </div>
                  <div v-if="each.connection_type !== 'local' && !each.gone_at && may('sources.change')">
                    <v-btn
                      size="small"
                      variant="text"
                      @click="((moved = each.id), (to = null), (fresh = false), (moving = true))"
                      >It is somebody else</v-btn
                    >
                  </div>
                </td>
              </tr>
            </tbody>
          </table>
        </section>
      </div>
      <PreviewDialog
        v-model="moving"
        title="Whose is this record?"
        act="It is theirs"
        :about="wish"
        :look="lookAtMove"
        :carry-out="move"
        @done="person.refetch()"
      >
        <p class="quiet">
          What the source says, and the groups that it has them in, go with it. Assignments to this person stay theirs.
        </p>
        <!-- First in the dialog and so focused first: the list of users opens when its field is focused, and would cover this. -->
        <v-checkbox v-model="fresh" label="Somebody new" hide-details />
        <UserSelect v-if="!fresh" v-model="to" label="Person" />
      </PreviewDialog>
    </template>
  </div>
</template>

<style scoped>
.entry + .entry {
  border-top: 1px solid rgb(var(--v-theme-line));
  margin-top: 8px;
  padding-top: 8px;
}
.what {
  display: flex;
  gap: 10px;
  align-items: baseline;
}
.ask {
  margin-top: 12px;
  align-items: flex-start;
}
.ask .narrow {
  flex: 0 0 220px;
}
.told {
  flex: 1 1 300px;
}
.gap {
  margin-top: 18px !important;
}
.value {
  overflow-wrap: anywhere;
}
</style>
