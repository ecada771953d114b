<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { answered, api, type Schemas } from '../../api/client'
import type { Confirmation } from '../../app/assignments'
import { useAttempts } from '../../app/actions'
import { useApplicationChoices } from '../../app/choices'
import { useMay } from '../../app/session'
import AccessPath from '../../components/AccessPath.vue'
import BusyButton from '../../components/BusyButton.vue'
import EmptyState from '../../components/EmptyState.vue'
import LocalUserDialog from './LocalUserDialog.vue'
import EraseUser from './EraseUser.vue'
import MarkUsersDialog from './MarkUsersDialog.vue'
import UserSelect from '../../components/UserSelect.vue'
import PreviewDialog from '../../components/PreviewDialog.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import UserSessions from './UserSessions.vue'
import SignInOptions from './SignInOptions.vue'
import LocalSignInPanel from '../local-users/LocalSignInPanel.vue'

const props = defineProps<{ id: string }>()
const user = useQuery({
  queryKey: ['users', props.id],
  queryFn: () => answered(api.GET('/api/v1/users/{user}', { params: { path: { user: props.id } } })),
  refetchInterval: 2500,
})
const data = computed(() => user.data.value)
const may = useMay()
const local = computed(() =>
  data.value?.records.some((each) => each.connection_type === 'local' && !each.deleted_at),
)
const changing = ref(false)
const leaving = ref(false)
const marking = ref(false)
const erasing = ref(false)
const router = useRouter()
const unmarking = ref(false)
const path = { user: props.id }
const removal = () => answered(api.GET('/api/v1/users/{user}/removal', { params: { path } }))
const remove = ({ confirm, expect }: Confirmation) =>
  answered(api.DELETE('/api/v1/users/{user}', { params: { path, query: { confirm, ...expect } } }))
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
const move = ({ confirm, expect }: Confirmation) =>
  answered(
    api.POST('/api/v1/records/{record}/link', {
      params: { path: { record: moved.value } },
      body: { to: wish.value?.to ?? null, confirm, expect },
    }),
  )
const { wrong, attempt } = useAttempts()
const reading = ref(false)
const readNow = ref('')
/** Imports the user and their groups from a source now. */
async function readAgain(key: string): Promise<void> {
  reading.value = true
  readNow.value = ''
  await attempt(async () => {
    const params = { path: { key, user: props.id } }
    const run = await answered(api.POST('/api/v1/sources/{key}/users/{user}/refresh', { params }))
    const touched = run.counts.filter((each) => each.name !== 'read' && each.name !== 'unchanged')
    readNow.value = touched.length
      ? `Refreshed: ${touched.map((each) => `${each.number} ${each.name}`).join(', ')}.`
      : 'Refreshed: nothing has changed.'
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
      api.GET('/api/v1/users/{user}/access/{application}', {
        params: { path: { user: props.id, application: asked.value ?? '' } },
      }),
    ),
})

/** Accounts without access, which remain in an application. */
const remaining = computed(() => {
  const shown = new Set(data.value?.access.map((each) => each.application.key))
  return data.value?.accounts.filter((each: Schemas['Account']) => !shown.has(each.application.key)) ?? []
})
</script>

<template>
  <div class="page">
    <ErrorMessage :wrong="user.error.value" />
    <template v-if="data">
      <div class="head">
        <div class="grow">
          <h1>{{ data.display_name }}</h1>
          <p class="lead">
            <StatusLabel :status="data.status" /> since <TimeLabel :at="data.since" /> ·
            <span class="mono">{{ data.user_name }}</span>
            <template v-if="data.email"> · {{ data.email }}</template>
            <template v-if="data.being_recomputed">
              · <StatusLabel status="waiting" /> being recalculated</template
            >
          </p>
        </div>
        <template v-if="local && may('users.change')">
          <v-btn variant="outlined" @click="changing = true">Edit</v-btn>
          <v-btn variant="outlined" @click="leaving = true">Delete</v-btn>
        </template>
        <v-btn v-if="may('users.change') && !data.mark" variant="outlined" @click="marking = true"
          >Mark user</v-btn
        >
        <v-btn
          v-if="may('users.change') && data.status === 'left' && data.records.length"
          variant="outlined"
          @click="erasing = true"
          >Erase</v-btn
        >
        <v-btn variant="text" :to="`/activity?user=${data.id}`">Activity</v-btn>
      </div>
      <LocalUserDialog v-model="changing" :user="data" />
      <EraseUser v-model="erasing" :user="data" @done="router.push('/erased-users')" />
      <PreviewDialog
        v-model="leaving"
        :title="`Delete ${data.display_name}?`"
        act="Delete"
        :about="data.id"
        :look="removal"
        :carry-out="remove"
        serious
      >
        <p class="quiet">The user becomes a leaver: access and accounts end. The history stays.</p>
      </PreviewDialog>
      <section v-if="data.mark" class="panel mark" aria-label="Mark">
        <div class="grow">
          <div>
            {{ data.mark.by }} marked the user as {{ data.mark.status }} from
            <TimeLabel :at="data.mark.from_at" /><template v-if="data.mark.note"
              >: {{ data.mark.note }}</template
            >
          </div>
          <div v-if="data.mark.sources_disagree" class="quiet">
            A source still reports the user as active. The mark wins until you remove it.
          </div>
        </div>
        <v-btn v-if="may('users.change')" variant="outlined" @click="unmarking = true">Remove mark</v-btn>
      </section>
      <MarkUsersDialog v-model="marking" :users="[data]" @done="user.refetch()" />
      <MarkUsersDialog v-model="unmarking" :users="[data]" remove @done="user.refetch()" />
      <section class="panel" aria-labelledby="access">
        <h2 id="access">Access</h2>
        <div v-for="each in data.access" :key="each.id" class="entry">
          <div class="what">
            <router-link :to="`/applications/${each.application.key}`">{{
              each.application.label
            }}</router-link>
            <b>{{ each.role.label }}</b>
            <span class="quiet">since <TimeLabel :at="each.since" /></span>
          </div>
          <AccessPath :access="each" />
        </div>
        <EmptyState v-if="!data.access.length" title="No access">
          {{
            data.status === 'active'
              ? 'The user has no direct assignment, and no group of the user is mapped to a role.'
              : 'Inactive users have no access.'
          }}
        </EmptyState>
        <div class="row ask">
          <v-autocomplete
            v-model="asked"
            :items="missing"
            label="Explain missing access"
            clearable
            class="narrow"
          />
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
              <th scope="col">Desired state</th>
              <th scope="col">Status</th>
              <th scope="col">Account ID</th>
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
                <router-link v-if="each.task" :to="`/provisioning/tasks/${each.task.id}`"
                  ><StatusLabel :status="each.status"
                /></router-link>
                <StatusLabel v-else :status="each.status" />
              </td>
              <td class="mono">{{ each.remote_id ?? '' }}</td>
            </tr>
          </tbody>
        </table>
      </section>
      <LocalSignInPanel v-if="local" :user="data" />
      <SignInOptions :user="data.id" />
      <UserSessions :user="data.id" />
      <div class="two">
        <section class="panel" aria-labelledby="who">
          <h2 id="who">Attributes</h2>
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
                <td class="value">
                  <template v-if="each.name === 'manager' && data.manager">
                    <router-link :to="`/users/${data.manager.id}`">{{
                      data.manager.display_name
                    }}</router-link>
                    <div class="quiet">{{ each.value }}</div>
                  </template>
                  <template v-else>{{ each.value }}</template>
                </td>
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
          <p v-else class="quiet">No groups.</p>
          <template v-if="data.ended.length">
            <h2 class="gap">Past access</h2>
            <table class="plain">
              <tbody>
                <tr v-for="each in data.ended.slice(0, 20)" :key="each.id">
                  <td>{{ each.application.label }}: {{ each.role.label }}</td>
                  <td class="quiet"><TimeLabel :at="each.since" /> to <TimeLabel :at="each.until" /></td>
                  <td class="quiet">
                    {{ each.reasons.map((reason) => reason.group?.name ?? 'direct').join(', ') }}
                  </td>
                </tr>
              </tbody>
            </table>
          </template>
          <h2 class="gap">Source records</h2>
          <ErrorMessage :wrong="wrong" />
          <p v-if="readNow" role="status">{{ readNow }}</p>
          <table class="plain">
            <tbody>
              <tr v-for="each in data.records" :key="each.id">
                <td>
                  <router-link :to="`/sources/${each.source.key}`">{{ each.source.label }}</router-link>
                  <div class="mono">{{ each.external_id || each.id }}</div>
                  <details>
                    <summary>Attributes</summary>
                    <table class="plain" :aria-label="`Attributes of the record of ${each.source.label}`">
                      <tbody>
                        <tr v-for="attribute in each.attributes" :key="attribute.name">
                          <td>{{ attribute.name }}</td>
                          <td class="value">{{ attribute.value }}</td>
                        </tr>
                      </tbody>
                    </table>
                  </details>
                </td>
                <td>
                  <StatusLabel :status="each.deleted_at ? 'left' : each.active ? 'active' : 'inactive'" />
                  <div v-if="each.idle" class="quiet">no sign-in for long</div>
                  <div v-if="each.left_out" class="quiet">
                    does not count: {{ each.left_out.replaceAll('_', ' ') }}
                  </div>
                  <div v-if="each.waiting" class="quiet">a {{ each.waiting }} waits</div>
                </td>
                <td class="quiet">
                  changed <TimeLabel :at="each.modified_at" />
                  <div v-if="each.connection_type === 'import' && !each.deleted_at && may('sources.change')">
                    <BusyButton
                      size="small"
                      variant="outlined"
                      :busy="reading"
                      @click="readAgain(each.source.key)"
                      >Refresh</BusyButton
                    >
                  </div>
                  <div v-if="each.connection_type !== 'local' && !each.deleted_at && may('sources.change')">
                    <v-btn
                      size="small"
                      variant="text"
                      @click="((moved = each.id), (to = null), (fresh = false), (moving = true))"
                      >Link to another user</v-btn
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
        title="Link to another user"
        act="Link"
        :about="wish"
        :look="lookAtMove"
        :carry-out="move"
        @done="user.refetch()"
      >
        <p class="quiet">
          The record moves with its attributes and group memberships. Direct assignments stay with the current
          user.
        </p>
        <!-- First in the dialog and so focused first: the list of users opens when its field is focused, and would cover this. -->
        <v-checkbox v-model="fresh" label="Create a new user" hide-details />
        <UserSelect v-if="!fresh" v-model="to" label="User" />
      </PreviewDialog>
    </template>
  </div>
</template>

<style scoped>
.mark {
  display: flex;
  gap: 16px;
  align-items: center;
}
.mark .grow {
  flex: 1;
}
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
  flex: 0 0 260px;
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
