<script setup lang="ts">
// Roles, the connection with its check, and what Dravo may do in the application.
import { useQueryClient } from '@tanstack/vue-query'
import { reactive, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../api/client'
import CheckSteps from './CheckSteps.vue'
import ProblemNote from './ProblemNote.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
const queries = useQueryClient()
const path = { key: props.application.key }

const role = reactive({ key: '', label: '', rank: 10 })
const roleWrong = ref<unknown>(null)
async function addRole(): Promise<void> {
  await attempt(roleWrong, async () => {
    await answered(
      api.POST('/api/v1/applications/{key}/roles', { params: { path }, body: { ...role, rank: Number(role.rank) } }),
    )
    role.key = role.label = ''
    role.rank = Number(role.rank) + 10
  })
}
async function removeRole(key: string): Promise<void> {
  await attempt(roleWrong, () =>
    answered(api.DELETE('/api/v1/applications/{key}/roles/{role}', { params: { path: { ...path, role: key } } })),
  )
}

const address = ref(props.application.connection.base_url ?? '')
const token = ref('')
const connectionWrong = ref<unknown>(null)
const check = ref<Schemas['Check'] | null>(null)
const checking = ref(false)
async function connect(): Promise<void> {
  await attempt(connectionWrong, async () => {
    const body = { base_url: address.value, token: token.value || null }
    const made = await answered(api.PUT('/api/v1/applications/{key}/connection', { params: { path }, body }))
    address.value = made.connection.base_url ?? ''
    token.value = ''
  })
  if (!connectionWrong.value) await tryConnection()
}
async function tryConnection(): Promise<void> {
  checking.value = true
  await attempt(connectionWrong, async () => {
    check.value = await answered(api.POST('/api/v1/applications/{key}/connection/check', { params: { path } }))
  })
  checking.value = false
}

const settings = ref({ ...props.application.settings })
const settingsWrong = ref<unknown>(null)
const kept = ref(false)
watch(
  () => JSON.stringify(props.application.settings),
  () => (settings.value = { ...props.application.settings }),
)
async function keep(): Promise<void> {
  kept.value = false
  await attempt(settingsWrong, async () => {
    const body = { ...settings.value, at_a_time: Number(settings.value.at_a_time) } as Schemas['ApplicationChange']
    await answered(api.PATCH('/api/v1/applications/{key}', { params: { path }, body }))
    kept.value = true
  })
}
async function pause(action: 'pause' | 'resume'): Promise<void> {
  await attempt(settingsWrong, () => answered(api.POST(`/api/v1/applications/{key}/${action}`, { params: { path } })))
}

async function attempt(wrong: typeof roleWrong, act: () => Promise<unknown>): Promise<void> {
  wrong.value = null
  try {
    await act()
    await queries.invalidateQueries()
  } catch (problem) {
    wrong.value = problem
  }
}
const leaving = ['deactivate', 'delete', 'leave alone']
</script>

<template>
  <section aria-labelledby="roles">
    <h2 id="roles">Roles that it knows</h2>
    <ProblemNote :wrong="roleWrong" />
    <table v-if="application.roles.length" class="plain roles">
      <thead>
        <tr>
          <th scope="col">Role</th>
          <th scope="col">Key sent to the application</th>
          <th scope="col">Rank</th>
          <th scope="col">People</th>
          <th scope="col"><span class="visually-hidden">Remove</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="each in application.roles" :key="each.key">
          <td>{{ each.label }}</td>
          <td class="mono">{{ each.key }}</td>
          <td>{{ each.rank }}</td>
          <td>{{ each.people }}</td>
          <td>
            <v-btn size="small" variant="text" :aria-label="`Remove role ${each.label}`" @click="removeRole(each.key)"
              >Remove</v-btn
            >
          </td>
        </tr>
      </tbody>
    </table>
    <form class="row" aria-label="Add a role" @submit.prevent="addRole">
      <v-text-field v-model="role.key" label="Role key" class="narrow" />
      <v-text-field v-model="role.label" label="Role name" class="narrow" />
      <v-text-field v-model="role.rank" label="Rank" type="number" class="small" />
      <v-btn type="submit" variant="outlined">Add the role</v-btn>
    </form>
  </section>

  <section v-if="!application.tracked_only" class="part" aria-labelledby="connection">
    <h2 id="connection">Connection</h2>
    <ProblemNote :wrong="connectionWrong" />
    <form class="form" aria-label="Connection" @submit.prevent="connect">
      <div class="row">
        <v-text-field
          v-model="address"
          label="SCIM base address"
          placeholder="https://HOST/scim/v2"
          class="address"
          autocomplete="off"
        />
        <v-text-field
          v-model="token"
          label="Token"
          type="password"
          autocomplete="off"
          :placeholder="application.connection.has_secret ? 'kept, encrypted' : ''"
          persistent-placeholder
          class="narrow"
        />
      </div>
      <div class="row">
        <v-btn type="submit" color="primary" :loading="checking">Keep and check</v-btn>
        <v-btn v-if="application.connection.has_secret" variant="outlined" :loading="checking" @click="tryConnection"
          >Check again</v-btn
        >
      </div>
      <CheckSteps v-if="check" :check="check" />
    </form>
  </section>

  <section v-if="!application.tracked_only" class="part" aria-labelledby="may">
    <h2 id="may">What Dravo may do there</h2>
    <ProblemNote :wrong="settingsWrong" />
    <form class="form" aria-label="What Dravo may do there" @submit.prevent="keep">
      <div class="switches">
        <v-switch v-model="settings.switched_on" label="Deliver: bring accounts to what is due" />
        <v-switch v-model="settings.create_accounts" label="Create accounts" />
        <v-switch v-model="settings.update_accounts" label="Change accounts" />
        <v-switch
          v-model="settings.adopt_by_user_name"
          label="Adopt an account of the same user name that is nobody's"
        />
      </div>
      <div class="row">
        <v-select v-model="settings.on_losing_access" :items="leaving" label="Who loses access" class="narrow" />
        <v-select v-model="settings.on_inactive" :items="leaving" label="Who becomes inactive" class="narrow" />
        <v-select v-model="settings.on_gone" :items="leaving" label="Who is gone" class="narrow" />
        <v-text-field v-model="settings.at_a_time" type="number" label="Requests at a time" class="small" />
      </div>
      <div class="row">
        <v-btn type="submit" color="primary">Keep these settings</v-btn>
        <v-btn v-if="application.connection.paused_at" variant="outlined" @click="pause('resume')"
          >Resume delivering</v-btn
        >
        <v-btn v-else-if="application.switched_on" variant="outlined" @click="pause('pause')">Pause delivering</v-btn>
        <span v-if="kept" role="status">Kept.</span>
      </div>
    </form>
  </section>
</template>

<style scoped>
.part {
  border-top: 1px solid rgb(var(--v-theme-line));
  margin-top: 20px;
  padding-top: 16px;
}
.roles {
  max-width: 760px;
  margin-bottom: 12px;
}
.narrow {
  flex: 0 1 230px;
}
.small {
  flex: 0 1 150px;
}
.address {
  flex: 1 1 380px;
  max-width: 560px;
}
.switches {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(340px, 1fr));
}
</style>
