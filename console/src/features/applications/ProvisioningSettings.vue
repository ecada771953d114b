<script setup lang="ts">
// The provisioning settings of an application. Changes to accounts are previewed before they are saved.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { usePaused } from '../../app/debounce'
import { inWords } from '../../app/words'
import ExpressionField from '../../components/ExpressionField.vue'
import GroupSelect from '../../components/GroupSelect.vue'
import UserSelect from '../../components/UserSelect.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import SettingsPreview from './SettingsPreview.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
const path = { key: props.application.key }
type Settings = Schemas['Settings']
const copy = (settings: Settings): Settings => JSON.parse(JSON.stringify(settings)) as Settings
const settings = ref(copy(props.application.settings))
const { wrong, attempt } = useAttempts()
const kept = ref(false)
const preview = ref<Schemas['SettingsPreview'] | null>(null)
const user = ref<string | null>(null)
watch(
  () => JSON.stringify(props.application.settings),
  () => (settings.value = copy(props.application.settings)),
)
watch(settings, () => ((preview.value = null), (kept.value = false)), { deep: true })

const leaving = ['deactivate', 'delete', 'do_nothing'].map((value) => ({ value, title: inWords(value) }))
const unlinked = [
  { title: 'Wait for an operator', value: 'wait' },
  { title: 'Adopt where a user matches', value: 'adopt' },
  { title: 'Adopt, or create users', value: 'create_users' },
  { title: 'Ignore', value: 'ignore' },
]
const namings = [
  { title: 'Value sent', value: 'key' },
  { title: 'Label', value: 'label' },
]
const ways = [
  { title: 'Attribute roles', value: 'roles' },
  { title: 'Attribute entitlements', value: 'entitlements' },
  { title: 'Group membership', value: 'groups' },
  { title: 'Custom attribute', value: 'attribute' },
  { title: 'Not sent', value: 'nothing' },
]
const whichRoles = [
  { title: 'All roles', value: 'all' },
  { title: 'Highest role only', value: 'highest' },
]
const whichGroups = [
  { title: 'None', value: 'none' },
  { title: 'All groups that assign roles', value: 'with_roles' },
  { title: 'Selected groups', value: 'selected' },
  { title: 'Groups whose names match', value: 'pattern' },
]
const sources = useQuery({
  queryKey: ['sources', 'choice'],
  queryFn: () => answered(api.GET('/api/v1/sources', { params: { query: { count: 500 } } })),
})
const sourceChoices = computed(() =>
  (sources.data.value?.items ?? []).map((each) => ({ title: each.label, value: each.key })),
)
const pattern = usePaused(() => settings.value.provisioned_groups.pattern ?? '', 300)
const matches = useQuery({
  queryKey: computed(() => ['group-matches', settings.value.provisioned_groups.source, pattern.value]),
  enabled: computed(() =>
    Boolean(
      settings.value.provisioned_groups.which === 'pattern' &&
      settings.value.provisioned_groups.source &&
      pattern.value,
    ),
  ),
  retry: false,
  queryFn: () => {
    const params = { path: { key: settings.value.provisioned_groups.source ?? '' } }
    const body = { which: 'pattern' as const, pattern: pattern.value }
    return answered(api.POST('/api/v1/sources/{key}/group-matches', { params, body }))
  },
})
// The names of groups that were selected before.
const named = useQuery({
  queryKey: computed(() => ['groups', 'named', props.application.settings.provisioned_groups.groups]),
  queryFn: async () => {
    const ids = props.application.settings.provisioned_groups.groups.map((each) => each.group)
    const found = await Promise.all(
      ids.map((id) =>
        answered(api.GET('/api/v1/groups/{id}', { params: { path: { id } } })).catch(() => null),
      ),
    )
    return new Map(found.flatMap((each) => (each ? [[each.id, each.name] as const] : [])))
  },
})
const chosenGroups = computed({
  get: () => settings.value.provisioned_groups.groups.map((each) => each.group),
  set: (ids: string[]) => {
    const before = new Map(settings.value.provisioned_groups.groups.map((each) => [each.group, each.name]))
    settings.value.provisioned_groups.groups = ids.map((group) => ({
      group,
      name: before.get(group) ?? null,
    }))
  },
})
const groupName = (id: string) => named.data.value?.get(id) ?? id

function body(): Schemas['ProvisioningSettingsRequest'] {
  // Values computed from the schedule are shown, not sent.
  // The status has a form of its own.
  const { enabled, reconcile_next_at, reconcile_schedule_words, reconcile_times, ...rest } = settings.value
  void [enabled, reconcile_next_at, reconcile_schedule_words, reconcile_times]
  const numbers = { max_concurrency: Number(rest.max_concurrency), rate_limit: Number(rest.rate_limit) }
  return { ...rest, ...numbers } as Schemas['ProvisioningSettingsRequest']
}
/** Previews first; if no account changes, it saves at once. */
async function look(): Promise<void> {
  kept.value = false
  let changed = 0
  const done = await attempt(async () => {
    const call = api.POST('/api/v1/applications/{key}/settings/preview', { params: { path }, body: body() })
    const found = await answered(call)
    changed = found.changed
    if (changed) preview.value = found
  })
  if (done && !changed) await keep()
}
async function keep(): Promise<void> {
  const done = await attempt(async () => {
    await answered(api.PATCH('/api/v1/applications/{key}', { params: { path }, body: body() }))
    preview.value = null
  })
  kept.value = done
}
const pause = (action: 'pause' | 'resume') =>
  attempt(async () => {
    await answered(api.POST(`/api/v1/applications/{key}/${action}`, { params: { path } }))
  })
</script>

<template>
  <section aria-labelledby="may">
    <h2 id="may">Provisioning</h2>
    <ErrorMessage :wrong="wrong" />
    <form class="form" aria-label="Provisioning" @submit.prevent="look">
      <div class="switches">
        <v-switch v-model="settings.create_accounts" label="Create accounts" />
        <v-switch v-model="settings.update_accounts" label="Update accounts" />
        <v-switch v-model="settings.approve_tasks" label="Each task waits for an approval" />
      </div>
      <div class="row">
        <v-combobox
          v-model="settings.adopt_by"
          :items="['userName', 'emails']"
          label="Adopt existing accounts by"
          hint="Attributes of unlinked accounts, such as userName, emails, or the URN of an employee number. Empty: adopt no accounts."
          persistent-hint
          multiple
          chips
          closable-chips
          class="address"
        />
        <v-text-field
          v-model="settings.origin_attribute"
          label="Origin attribute"
          hint="Dravo writes “Dravo” into this attribute of each account, such as userType."
          persistent-hint
          class="narrow"
        />
      </div>
      <div class="row">
        <v-select
          v-model="settings.on_losing_access"
          :items="leaving"
          label="When a user loses access"
          class="narrow"
        />
        <v-select
          v-model="settings.on_inactive"
          :items="leaving"
          label="When a user becomes inactive"
          class="narrow"
        />
        <v-select v-model="settings.on_leaving" :items="leaving" label="When a user leaves" class="narrow" />
      </div>
      <div class="row">
        <v-text-field
          v-model="settings.max_concurrency"
          type="number"
          label="Concurrent requests"
          class="small"
        />
        <v-text-field
          v-model="settings.rate_limit"
          type="number"
          label="Requests per second (0: no limit)"
          class="narrow"
        />
        <v-text-field
          v-model="settings.reconcile_schedule"
          label="Reconciliation schedule (cron; empty: never)"
          placeholder="0 3 * * *"
          persistent-placeholder
          class="narrow mono"
        />
        <v-select
          v-model="settings.unlinked_accounts"
          :items="unlinked"
          label="Reconciled accounts without a user"
          class="narrow"
        />
      </div>

      <template v-if="application.plans.length">
        <h3>How the license plan is sent</h3>
        <div class="row">
          <v-select
            v-model="settings.plan_encoding.way"
            :items="ways.filter((each) => each.value !== 'groups')"
            label="Plan"
            class="narrow"
          />
          <v-text-field
            v-if="settings.plan_encoding.way === 'attribute'"
            v-model="settings.plan_encoding.attribute"
            label="Attribute for the plan"
            placeholder="userType"
            class="narrow"
          />
          <v-select
            v-model="settings.plan_encoding.value"
            :items="namings"
            label="Plan value"
            class="small"
          />
        </div>
      </template>

      <h3>How roles are sent</h3>
      <div class="row">
        <v-select v-model="settings.role_encoding.way" :items="ways" label="Roles" class="narrow" />
        <v-text-field
          v-if="settings.role_encoding.way === 'attribute'"
          v-model="settings.role_encoding.attribute"
          label="Attribute"
          placeholder="userType"
          class="narrow"
        />
        <v-select
          v-model="settings.role_encoding.which"
          :items="whichRoles"
          label="Multiple roles"
          class="narrow"
        />
        <v-select v-model="settings.role_encoding.value" :items="namings" label="Value" class="small" />
        <v-select
          v-if="['roles', 'entitlements'].includes(settings.role_encoding.way)"
          v-model="settings.role_encoding.shape"
          :items="['as_declared', 'objects', 'strings']"
          label="Form"
          class="small"
        />
      </div>

      <h3>Provisioned groups</h3>
      <div class="row">
        <v-select
          v-model="settings.provisioned_groups.which"
          :items="whichGroups"
          label="Groups"
          class="narrow"
        />
        <div v-if="settings.provisioned_groups.which === 'selected'" class="address">
          <GroupSelect v-model="chosenGroups" label="Selected groups" several :known="named.data.value" />
        </div>
        <template v-if="settings.provisioned_groups.which === 'pattern'">
          <v-autocomplete
            v-model="settings.provisioned_groups.source"
            :items="sourceChoices"
            label="Source of the groups"
            class="narrow"
          />
          <v-text-field
            v-model="settings.provisioned_groups.pattern"
            label="Pattern of group names"
            placeholder="^plants-"
            persistent-placeholder
            :hint="
              matches.data.value
                ? `${matches.data.value.matching} of ${matches.data.value.total} groups match.`
                : ''
            "
            persistent-hint
            :error-messages="matches.error.value ? String(matches.error.value.message) : []"
            class="narrow mono"
          />
        </template>
      </div>
      <div v-if="settings.provisioned_groups.which === 'selected'" class="row">
        <v-text-field
          v-for="each in settings.provisioned_groups.groups"
          :key="each.group"
          v-model="each.name"
          :label="`Name in the application for ${groupName(each.group)}`"
          :placeholder="groupName(each.group)"
          persistent-placeholder
          class="narrow"
        />
      </div>
      <v-switch
        v-if="settings.provisioned_groups.which !== 'none' || settings.role_encoding.way === 'groups'"
        v-model="settings.adopt_groups"
        label="Adopt unlinked groups with the same name"
      />

      <h3>Attribute mapping</h3>
      <p class="quiet">
        Dravo sends names, email addresses, title, department and similar attributes unchanged. For the
        manager, Dravo sends the ID of the manager's account in the application. Add an expression to change
        an attribute or leave it out. For the manager, use <code>manager.value</code>.
      </p>
      <UserSelect v-if="settings.attributes.length" v-model="user" label="Preview with user" class="choice" />
      <div v-for="(each, number) in settings.attributes" :key="number" class="pair">
        <v-text-field v-model="each.attribute" label="Attribute" class="mono" />
        <ExpressionField
          v-model="each.expression"
          :label="`Expression for ${each.attribute || 'the attribute'}`"
          :attribute="each.attribute"
          :user="user"
        />
        <v-btn
          size="small"
          variant="text"
          :aria-label="`Remove the expression for ${each.attribute}`"
          @click="settings.attributes.splice(number, 1)"
          >Remove</v-btn
        >
      </div>
      <div>
        <v-btn
          variant="outlined"
          size="small"
          @click="settings.attributes.push({ attribute: '', expression: '' })"
          >Add expression</v-btn
        >
      </div>

      <SettingsPreview v-if="preview" :preview="preview" />
      <div class="row">
        <template v-if="preview">
          <v-btn color="primary" @click="keep"
            >Save and update {{ preview.changed.toLocaleString('en') }}
            {{ preview.changed === 1 ? 'account' : 'accounts' }}</v-btn
          >
          <v-btn variant="text" @click="preview = null">Cancel</v-btn>
        </template>
        <v-btn v-else type="submit" color="primary">Save</v-btn>
        <v-btn v-if="application.connection.paused_at" variant="outlined" @click="pause('resume')"
          >Resume provisioning</v-btn
        >
        <v-btn v-else-if="application.enabled" variant="outlined" @click="pause('pause')"
          >Pause provisioning</v-btn
        >
        <span v-if="kept" role="status">Saved.</span>
      </div>
    </form>
  </section>
</template>

<style scoped>
h3 {
  font-size: 16px;
  margin: 10px 0 0;
}
.narrow {
  flex: 0 1 250px;
}
.small {
  flex: 0 1 150px;
}
.address {
  flex: 1 1 380px;
}
.choice {
  max-width: 380px;
}
.pair {
  display: grid;
  grid-template-columns: minmax(180px, 300px) 1fr auto;
  gap: 10px;
  align-items: start;
}
@media (max-width: 700px) {
  .pair {
    grid-template-columns: 1fr;
  }
}
.switches {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(340px, 1fr));
}
p {
  margin: 0;
}
</style>
