<script setup lang="ts">
// For whom signing in by a source is in force: nobody, a pilot group, everybody; at once or from an hour on.
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
const wanted = ref<'pilot' | 'everybody' | null>(null)
const typed = ref('')
const words = computed(
  () =>
    ({
      off: 'Nobody signs in by it yet, but for trials.',
      pilot: `Those in the group '${props.signIn.settings.pilot}' sign in by it.`,
      everybody: 'Everybody whom it lets in signs in by it.',
    })[props.signIn.state],
)
async function put(state: 'off' | 'pilot' | 'everybody', at?: string, confirm?: string): Promise<void> {
  await attempt(async () => {
    if (state === 'pilot' && pilot.value !== props.signIn.settings.pilot) {
      const body = { settings: { pilot: pilot.value } }
      await answered(api.PUT('/api/v1/sources/{key}/sign-in', { params: { path }, body }))
    }
    const body = { state, enabled_from: at, confirm }
    await answered(api.POST('/api/v1/sources/{key}/sign-in/status', { params: { path }, body }))
    asking.value = false
    await queries.invalidateQueries()
  })
}
/** Nobody has come through these settings yet: then the name is typed. */
function want(state: 'pilot' | 'everybody'): void {
  typed.value = ''
  wanted.value = state
  if (props.signIn.verified_at || props.signIn.missing.length) void put(state)
  else asking.value = true
}
/** Whom it lets in: operators too only by a super administrator's word. */
const serves = computed(() => props.signIn.serves)
const whom = [
  { title: 'People', value: 'people' },
  { title: 'Operators', value: 'operators' },
  { title: 'People and operators', value: 'both' },
]
const serve = (value: string) =>
  attempt(async () => {
    const body = { serves: value as 'people' }
    await answered(api.PUT('/api/v1/sources/{key}/sign-in', { params: { path }, body }))
    await queries.invalidateQueries()
  })
const later = () => put(props.signIn.state as 'off' | 'pilot', new Date(hour.value).toISOString(), props.label)
</script>

<template>
  <section class="panel" aria-labelledby="force">
    <h2 id="force">For whom</h2>
    <ErrorMessage v-if="!asking" :wrong="wrong" />
    <p>
      <StatusLabel :state="signIn.state" /> {{ words }}
      <template v-if="signIn.enabled_from">For everybody from <TimeLabel :at="signIn.enabled_from" />.</template>
      <template v-if="signIn.verified_at">
        Somebody came through it last <TimeLabel :at="signIn.verified_at" />.</template
      >
      <b v-else> Nobody has come through these settings yet.</b>
    </p>
    <div v-if="may('sources.change')" class="row">
      <v-btn v-if="signIn.state !== 'off'" variant="outlined" @click="put('off')">Off for everybody</v-btn>
      <template v-if="signIn.state !== 'everybody'">
        <v-text-field v-model="pilot" label="Pilot group" class="narrow" hide-details />
        <v-btn variant="outlined" :disabled="!pilot.trim()" @click="want('pilot')">For the pilot group</v-btn>
        <v-btn color="primary" @click="want('everybody')">For everybody</v-btn>
        <v-text-field v-model="hour" type="datetime-local" label="For everybody from" class="hour" hide-details />
        <v-btn variant="text" :disabled="!hour" @click="later">Set this hour</v-btn>
      </template>
    </div>
    <div v-if="signIn.protocol !== 'mail'" class="row whom">
      <v-select
        v-if="may('operators.change')"
        :model-value="serves"
        :items="whom"
        label="Whom it lets in"
        class="narrow"
        hide-details
        @update:model-value="serve"
      />
      <span v-if="serves !== 'people'" class="quiet">
        An operator links themselves to it under Settings, signed in by their password; nobody becomes one by a name. It
        is a super administrator's to change.
      </span>
    </div>
    <FormDialog
      v-model="asking"
      title="Nobody has tried it yet"
      act="Put it in force"
      :wrong="wrong"
      grave
      @done="put(wanted!, undefined, typed)"
    >
      <p>Let one person try first, under Trials. Or type the name of the source, {{ label }}, to go on all the same.</p>
      <v-text-field v-model="typed" label="Name of the source" />
    </FormDialog>
  </section>
</template>

<style scoped>
.whom .v-select {
  max-width: 260px;
}
.whom {
  margin-top: 12px;
  align-items: center;
}
.whom .quiet {
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
