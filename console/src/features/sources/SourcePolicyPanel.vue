<script setup lang="ts">
// The source policy: matching, scope, attribute mapping, groups and status, with a preview before it is saved.
import { useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { told } from '../../app/attributeValues'
import BusyButton from '../../components/BusyButton.vue'
import ExpressionField from '../../components/ExpressionField.vue'
import SignInResult from '../sign-in/SignInResult.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{
  source: string
  label: string
  conflicts: number
  /** The import settings; without them the policy is that of sign-in. */
  reading?: Schemas['ImportSettings']
  signIn?: Schemas['SignIn']
}>()
const queries = useQueryClient()
const path = { key: props.source }
const { wrong, attempt } = useAttempts()
const kept = (props.reading ?? props.signIn)!.policy
const attributes = computed(
  () => props.reading?.attributes ?? props.signIn?.seen.map((each) => each.name) ?? [],
)
const match = ref(kept.match)
const domains = ref(kept.domains.join('\n'))
const users = ref(kept.users)
const which = ref(kept.groups.which)
const names = ref(kept.groups.names.join('\n'))
const pattern = ref(kept.groups.pattern)
const groupsFrom = ref(kept.groups_from.join('\n'))
const gives = ref(kept.gives.join('\n'))
const makes = ref(kept.makes)
const pilot = ref(kept.pilot)
const hour = ref('')
const rows = ref(kept.attributes.map((each) => ({ ...each })))
const tried = ref<Schemas['PolicyPreview'] | null>(null)
const planned = ref<Schemas['PlannedSignIn'] | null>(null)
const busy = ref(false)
const done = ref(false)
const policy = computed(() => ({
  match: match.value,
  domains: lines(domains.value),
  users: users.value,
  groups: { which: which.value, names: lines(names.value), pattern: pattern.value },
  groups_from: lines(groupsFrom.value),
  gives: lines(gives.value),
  makes: makes.value,
  pilot: pilot.value,
  attributes: rows.value.filter((each) => each.attribute.trim()),
}))
const lines = (text: string) =>
  text
    .split('\n')
    .map((each) => each.trim())
    .filter(Boolean)
async function look(): Promise<void> {
  busy.value = true
  done.value = false
  await attempt(async () => {
    const body = { policy: policy.value }
    if (!props.reading) {
      planned.value = await lastPlanned()
      return
    }
    tried.value = await answered(api.POST('/api/v1/sources/{key}/policy/preview', { params: { path }, body }))
  })
  busy.value = false
}
/** Previews the last successful sign-in with this policy. */
async function lastPlanned() {
  const query = { count: 50 }
  const traces = await answered(api.GET('/api/v1/sources/{key}/sign-in/traces', { params: { path, query } }))
  const last = traces.items.find((each) => each.outcome !== 'refused') ?? traces.items[0]
  if (!last) throw new Error('No sign-in yet. Run a test sign-in first.')
  const at = { path: { ...path, trace: last.id } }
  const body = { policy: policy.value }
  return answered(api.POST('/api/v1/sources/{key}/sign-in/traces/{trace}/rerun', { params: at, body }))
}
async function keep(): Promise<void> {
  const body = { policy: policy.value }
  const call = () =>
    props.reading
      ? answered(api.PUT('/api/v1/sources/{key}/import', { params: { path }, body }))
      : answered(api.PUT('/api/v1/sources/{key}/sign-in', { params: { path }, body }))
  if (await attempt(call)) {
    done.value = true
    await queries.invalidateQueries()
  }
}
const force = (on: boolean) =>
  attempt(async () => {
    await answered(api.PUT('/api/v1/sources/{key}/import', { params: { path }, body: { enabled: on } }))
    await queries.invalidateQueries()
  })
const at = () =>
  attempt(async () => {
    const body = { enabled_from: hour.value ? new Date(hour.value).toISOString() : '' }
    await answered(api.PUT('/api/v1/sources/{key}/import', { params: { path }, body }))
    await queries.invalidateQueries()
  })
const matches = [
  { title: 'Nothing: possible matches become conflicts', value: 'ask' },
  { title: 'User name, within the domains of the source', value: 'user_name' },
  { title: 'Email address, within the domains of the source', value: 'email' },
]
const choices = [
  { title: 'All groups', value: 'all' },
  { title: 'No groups', value: 'none' },
  { title: 'Selected groups', value: 'named' },
  { title: 'Groups that match a pattern', value: 'pattern' },
]
</script>

<template>
  <form aria-label="Source policy" @submit.prevent="keep">
    <ErrorMessage :wrong="wrong" />
    <section class="panel" aria-labelledby="who">
      <h2 id="who">Matching</h2>
      <p class="quiet">
        Dravo identifies a user {{ reading ? 'by the ID in the source' : 'by issuer and subject' }}. The first
        time, Dravo can link the record to an existing user by:
      </p>
      <v-select v-model="match" :items="matches" label="Match by" class="wide" />
      <v-textarea
        v-model="domains"
        label="Domains of the source, one per line"
        rows="1"
        auto-grow
        class="wide"
      />
      <p v-if="conflicts">
        <StatusLabel status="open" />&nbsp;
        <router-link :to="`/sources/${source}/conflicts`"
          >{{ conflicts }} conflicts need a decision</router-link
        >
      </p>
    </section>
    <section class="panel" aria-labelledby="may">
      <h2 id="may">Scope</h2>
      <v-text-field
        v-model="users"
        label="Users (SCIM filter)"
        placeholder='title ne "Contractor" and department eq "Estates"'
        persistent-placeholder
        :hint="
          reading
            ? 'Empty: all users. Users who leave the scope later are treated as leavers.'
            : 'Empty: all authenticated users. Users outside the scope are refused.'
        "
        persistent-hint
        class="wide mono"
        spellcheck="false"
      />
      <v-select v-model="which" :items="choices" label="Groups" class="wide" />
      <v-textarea
        v-if="which === 'named'"
        v-model="names"
        label="Names or IDs, one per line"
        rows="2"
        auto-grow
        class="wide"
      />
      <v-text-field v-if="which === 'pattern'" v-model="pattern" label="Pattern (RE2)" class="wide mono" />
      <v-switch v-model="makes" label="Create users that do not exist yet" color="primary" hide-details />
    </section>
    <section class="panel" aria-labelledby="bring">
      <h2 id="bring">Attribute mapping</h2>
      <p class="quiet">
        An expression for each attribute produces its value from the source record.
        <template v-if="attributes.length"
          >Available: <span class="mono">{{ attributes.join(', ') }}</span>.</template
        >
        <template v-else>{{
          reading
            ? 'Check the connection to see the available attributes.'
            : 'Run a test sign-in to see the available claims.'
        }}</template>
      </p>
      <div v-for="(row, number) in rows" :key="number" class="pair">
        <v-text-field v-model="row.attribute" label="Attribute" class="mono" spellcheck="false" />
        <ExpressionField
          v-model="row.expression"
          label="Expression"
          :source="source"
          :attribute="row.attribute"
          :names="attributes"
        />
        <v-btn
          size="small"
          variant="text"
          :aria-label="`Remove ${row.attribute}`"
          @click="rows.splice(number, 1)"
          >Remove</v-btn
        >
      </div>
      <v-btn variant="outlined" size="small" @click="rows.push({ attribute: '', expression: '' })"
        >Add attribute</v-btn
      >
      <v-textarea
        v-model="groupsFrom"
        label="Groups from user attributes, one expression per line"
        :placeholder="!reading ? 'groups' : reading.reads === 'user' ? 'department' : 'departmentNumber'"
        hint="Each value is the name of a group. The user becomes a member of it."
        persistent-hint
        rows="1"
        auto-grow
        class="wide mono made"
        spellcheck="false"
      />
      <v-textarea
        v-model="gives"
        label="Groups for all users of this source, one per line"
        rows="1"
        auto-grow
        class="wide"
      />
    </section>
    <section v-if="reading" class="panel" aria-labelledby="when">
      <h2 id="when">Status</h2>
      <p>
        <StatusLabel :status="reading.enabled ? 'enabled' : 'disabled'" />
        {{
          reading.enabled
            ? `Dravo applies what each import run finds. ${reading.schedule_words}.`
            : 'Runs are previews and change nothing.'
        }}
      </p>
      <v-text-field
        v-model="pilot"
        label="Pilot group (name or ID in the source)"
        hint="Dravo changes only members of this group. Leave it empty for all users."
        persistent-hint
        class="wide"
      />
      <div v-if="!reading.enabled" class="row">
        <v-text-field v-model="hour" type="datetime-local" label="Enable from" class="hour" hide-details />
        <v-btn variant="outlined" :disabled="!hour" @click="at">Schedule</v-btn>
        <span v-if="reading.enabled_from"
          >Scheduled for <TimeLabel :at="reading.enabled_from" />.
          <v-btn size="small" variant="text" @click="((hour = ''), at())">Remove schedule</v-btn></span
        >
      </div>
      <v-btn variant="outlined" @click="force(!reading.enabled)">{{
        reading.enabled ? 'Disable' : 'Enable'
      }}</v-btn>
      <span v-if="!reading.enabled" class="quiet">
        Check a <router-link :to="`/sources/${source}/runs`">preview run</router-link> first.</span
      >
    </section>
    <section class="panel" aria-labelledby="comes">
      <h2 id="comes">Preview</h2>
      <div class="row">
        <BusyButton variant="outlined" :busy="busy" @click="look">{{
          reading ? 'Preview with all users' : 'Preview with the last sign-in'
        }}</BusyButton>
        <v-btn type="submit" color="primary">Save</v-btn>
        <span v-if="done" role="status"
          >Saved. The policy applies from the next {{ reading ? 'run' : 'sign-in' }}.</span
        >
      </div>
      <SignInResult v-if="planned" :planned="planned" />
      <template v-if="tried">
        <p role="status">
          Of {{ tried.looked_at.toLocaleString('en') }} users of this source,
          {{ tried.accepted.toLocaleString('en') }} stay unchanged,
          {{ tried.changed.toLocaleString('en') }} change, {{ tried.leaves.toLocaleString('en') }} leave,
          {{ tried.refused.toLocaleString('en') }} are refused.
        </p>
        <p v-if="tried.groups.length">
          Of {{ tried.groups.length.toLocaleString('en') }} groups of this source
          <template v-if="tried.groups.every((each) => each.accepted)">all are accepted.</template>
          <template v-else>
            these are accepted:
            <b>{{
              tried.groups
                .filter((each) => each.accepted)
                .map((each) => each.name)
                .join(', ') || 'none'
            }}</b>; these are ignored:
            {{
              tried.groups
                .filter((each) => !each.accepted)
                .map((each) => each.name)
                .join(', ')
            }}.
          </template>
        </p>
        <p v-if="tried.made_groups.length">
          Groups from user attributes:
          {{
            tried.made_groups.map((each) => `${each.name} (${each.users.toLocaleString('en')})`).join(', ')
          }}.
        </p>
        <div v-if="tried.items.length" class="scroll" role="group" aria-label="Results" tabindex="0">
          <table class="plain">
            <caption class="visually-hidden">
              Changed users
            </caption>
            <thead>
              <tr>
                <th scope="col">User</th>
                <th scope="col">Outcome</th>
                <th scope="col">Before and after</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="(each, number) in tried.items" :key="number">
                <td>{{ each.name }}</td>
                <td><StatusLabel :status="each.outcome === 'leaves' ? 'left' : each.outcome" /></td>
                <td>
                  <div v-for="one in each.changes" :key="one.attribute">
                    <b>{{ one.attribute.split(':').pop() }}</b>: {{ told(one.before) }} →
                    {{ told(one.after) }}
                  </div>
                  {{ each.message }}
                </td>
              </tr>
            </tbody>
          </table>
        </div>
      </template>
    </section>
  </form>
</template>

<style scoped>
.wide {
  max-width: 640px;
  margin-bottom: 14px;
}
.made {
  margin-top: 16px;
}
.hour {
  max-width: 260px;
}
.pair {
  display: grid;
  grid-template-columns: minmax(220px, 340px) 1fr auto;
  gap: 12px;
  align-items: start;
  margin-bottom: 12px;
}
@media (max-width: 700px) {
  .pair {
    grid-template-columns: 1fr;
  }
}
.panel + .panel {
  margin-top: 12px;
}
</style>
