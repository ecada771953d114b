<script setup lang="ts">
// The sign-in status of a source: disabled, pilot or enabled, immediately or at a set time.
import { useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useMay } from '../../app/session'
import FormDialog from '../../components/FormDialog.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ source: string; label: string; signIn: Schemas['SignIn'] }>()
const may = useMay()
const queries = useQueryClient()
const path = { key: props.source }
const { wrong, attempt } = useAttempts()
const pilot = ref(String(props.signIn.settings.pilot ?? ''))
const hour = ref('')
const asking = ref(false)
const wanted = ref<'pilot' | 'enabled' | null>(null)
const typed = ref('')
const words = computed(
  () =>
    ({
      disabled: 'Sign-in is disabled. Only test sign-ins work.',
      pilot: `Only members of the group '${props.signIn.settings.pilot}' can sign in.`,
      enabled: 'All users of this source can sign in.',
    })[props.signIn.status],
)
async function put(status: 'disabled' | 'pilot' | 'enabled', at?: string, confirm?: string): Promise<void> {
  await attempt(async () => {
    if (status === 'pilot' && pilot.value !== props.signIn.settings.pilot) {
      const body = { settings: { pilot: pilot.value } }
      await answered(api.PUT('/api/v1/sources/{key}/sign-in', { params: { path }, body }))
    }
    const body = { status, enabled_from: at, confirm }
    await answered(api.POST('/api/v1/sources/{key}/sign-in/status', { params: { path }, body }))
    asking.value = false
    await queries.invalidateQueries()
  })
}
/** Nobody has signed in with these settings yet: the name must be typed. */
function want(status: 'pilot' | 'enabled'): void {
  typed.value = ''
  wanted.value = status
  if (props.signIn.verified_at || props.signIn.missing.length) void put(status)
  else asking.value = true
}
/** Who can sign in; only a super administrator can change it. */
const serves = computed(() => props.signIn.serves)
const servesItems = [
  { title: 'Users', value: 'users' },
  { title: 'Operators', value: 'operators' },
  { title: 'Users and operators', value: 'both' },
]
const serve = (value: string) =>
  attempt(async () => {
    const body = { serves: value as 'users' }
    await answered(api.PUT('/api/v1/sources/{key}/sign-in', { params: { path }, body }))
    await queries.invalidateQueries()
  })
const later = () =>
  put(props.signIn.status as 'disabled' | 'pilot', new Date(hour.value).toISOString(), props.label)
</script>

<template>
  <section class="panel" aria-labelledby="force">
    <h2 id="force">Sign-in status</h2>
    <ErrorMessage v-if="!asking" :wrong="wrong" />
    <p>
      <StatusLabel :status="signIn.status" /> {{ words }}
      <template v-if="signIn.enabled_from"
        >Enabled for everyone from <TimeLabel :at="signIn.enabled_from" />.</template
      >
      <template v-if="signIn.verified_at">
        Last successful sign-in <TimeLabel :at="signIn.verified_at" />.</template
      >
      <b v-else> These settings have not been tested yet.</b>
    </p>
    <div v-if="may('sources.change')" class="row">
      <v-btn v-if="signIn.status !== 'disabled'" variant="outlined" @click="put('disabled')">Disable</v-btn>
      <template v-if="signIn.status !== 'enabled'">
        <v-text-field v-model="pilot" label="Pilot group" class="narrow" hide-details />
        <v-btn variant="outlined" :disabled="!pilot.trim()" @click="want('pilot')"
          >Enable for pilot group</v-btn
        >
        <v-btn color="primary" @click="want('enabled')">Enable for everyone</v-btn>
        <v-text-field
          v-model="hour"
          type="datetime-local"
          label="Enable for everyone from"
          class="hour"
          hide-details
        />
        <v-btn variant="text" :disabled="!hour" @click="later">Schedule</v-btn>
      </template>
    </div>
    <div v-if="signIn.protocol !== 'email_code'" class="row serves">
      <v-select
        v-if="may('operators.change')"
        :model-value="serves"
        :items="servesItems"
        label="Who can sign in"
        class="narrow"
        hide-details
        @update:model-value="serve"
      />
      <span v-if="serves !== 'users'" class="quiet">
        Operators link their own sign-in under Settings after they sign in with their password. Only a super
        administrator can change this.
      </span>
    </div>
    <FormDialog
      v-model="asking"
      title="These settings are not tested"
      act="Enable"
      :wrong="wrong"
      serious
      @done="put(wanted!, undefined, typed)"
    >
      <p>
        Run a test sign-in first. To enable sign-in without a test, type the name of the source, {{ label }}.
      </p>
      <v-text-field v-model="typed" label="Name of the source" />
    </FormDialog>
  </section>
</template>

<style scoped>
.serves .v-select {
  max-width: 260px;
}
.serves {
  margin-top: 12px;
  align-items: center;
}
.serves .quiet {
  flex: 1;
  min-width: 240px;
}
.hour {
  max-width: 230px;
}
.panel {
  margin-bottom: 12px;
}
</style>
