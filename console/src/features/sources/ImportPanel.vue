<script setup lang="ts">
// The import settings of a source: connector, settings, schedule and files, with a check.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import BusyButton from '../../components/BusyButton.vue'
import CheckSteps from '../../components/CheckSteps.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

type Reading = Schemas['ImportSettings']
const props = defineProps<{
  source: string
  reading: Reading | null
  /** The template of the source, for an import that is not saved yet. */
  template: string | null
}>()
const queries = useQueryClient()
const path = { key: props.source }
const { wrong, attempt } = useAttempts()
const kinds = useQuery({ queryKey: ['readers'], queryFn: () => answered(api.GET('/api/v1/connectors')) })
const templates = useQuery({
  queryKey: ['source-templates'],
  queryFn: () => answered(api.GET('/api/v1/source-templates')),
  enabled: computed(() => Boolean(props.template && !props.reading)),
})
const template = computed(() => templates.data.value?.items.find((each) => each.key === props.template))
const kind = ref(props.reading?.kind ?? 'ldap')
watch(template, (found) => found?.connector && (kind.value = found.connector), { immediate: true })
const given = ref<Record<string, string | boolean>>({})
const secret = ref('')
const schedule = ref(props.reading?.schedule ?? '0 * * * *')
const check = ref<Schemas['ImportCheck'] | null>(null)
const checking = ref(false)
const fields = computed(() => kinds.data.value?.items.find((each) => each.key === kind.value)?.settings ?? [])
watch(
  [fields, template],
  ([found]) => {
    const presets = template.value?.connector === kind.value ? template.value.settings : {}
    const kept = props.reading?.kind === kind.value ? props.reading.settings : presets
    given.value = Object.fromEntries(
      found.map((each) => [each.name, (kept[each.name] ?? each.default) as string]),
    )
  },
  { immediate: true },
)
const secretName = computed(
  () =>
    ({
      ldap: given.value.sign_in === 'external' ? 'Key of the certificate' : 'Password',
      scim: 'Token or secret',
    })[kind.value],
)
async function tryIt(kept: boolean): Promise<void> {
  checking.value = true
  await attempt(async () => {
    const body = kept ? {} : { kind: kind.value, settings: given.value, secret: secret.value || null }
    check.value = await answered(api.POST('/api/v1/sources/{key}/import/check', { params: { path }, body }))
  })
  checking.value = false
}
async function keep(): Promise<void> {
  const body = {
    kind: kind.value,
    settings: given.value,
    secret: secret.value || null,
    schedule: props.reading ? schedule.value.trim() : null,
  }
  const saved = await attempt(async () => {
    await answered(api.PUT('/api/v1/sources/{key}/import', { params: { path }, body }))
    secret.value = ''
  })
  if (saved) await tryIt(true)
}
async function upload(files: File | File[] | null): Promise<void> {
  for (const file of [files ?? []].flat()) {
    const bytes = new Uint8Array(await file.arrayBuffer())
    let text = ''
    for (let at = 0; at < bytes.length; at += 32_768)
      text += String.fromCharCode(...bytes.subarray(at, at + 32_768))
    const name = file.name as 'users.csv'
    const body = { name, content: btoa(text) }
    await attempt(() => answered(api.POST('/api/v1/sources/{key}/import/files', { params: { path }, body })))
  }
  await queries.invalidateQueries()
}
</script>

<template>
  <section class="panel" aria-labelledby="reading">
    <h2 id="reading">Connection</h2>
    <p v-if="!reading && template" class="quiet">
      The template <b>{{ template.label }}</b> fills in what it knows. You can change everything.
    </p>
    <p v-if="!reading" class="quiet">
      You can check the connection before you save it. A read-only account is enough.
    </p>
    <ErrorMessage :wrong="wrong ?? kinds.error.value" />
    <form class="form" aria-label="Connection" @submit.prevent="keep">
      <v-select
        v-if="!reading"
        v-model="kind"
        :items="(kinds.data.value?.items ?? []).map((each) => ({ title: each.label, value: each.key }))"
        label="Connector"
        class="narrow"
      />
      <div class="fields">
        <template v-for="each in fields" :key="each.name">
          <v-select
            v-if="each.kind === 'choice'"
            v-model="given[each.name] as string"
            :items="each.choices"
            :label="each.label"
            :hint="each.hint"
            persistent-hint
          />
          <v-switch
            v-else-if="each.kind === 'switch'"
            v-model="given[each.name] as boolean"
            :label="each.label"
            :hint="each.hint"
            persistent-hint
            color="primary"
          />
          <v-textarea
            v-else-if="each.kind === 'lines'"
            v-model="given[each.name] as string"
            :label="each.label"
            :hint="each.hint"
            persistent-hint
            rows="1"
            auto-grow
            max-rows="2"
            class="mono"
          />
          <v-text-field
            v-else
            v-model="given[each.name] as string"
            :label="each.label"
            :hint="each.hint"
            persistent-hint
            autocomplete="off"
            spellcheck="false"
          />
        </template>
        <v-text-field
          v-if="secretName"
          v-model="secret"
          :label="secretName"
          type="password"
          autocomplete="off"
          :placeholder="reading?.has_secret ? 'kept, encrypted' : ''"
          persistent-placeholder
          hint="Dravo deletes the secret when the address changes."
          persistent-hint
        />
        <v-text-field
          v-if="reading"
          v-model="schedule"
          label="Schedule (cron)"
          class="mono"
          :hint="`${reading.schedule_words}. Leave empty for no schedule.`"
          persistent-hint
        />
      </div>
      <p v-if="reading && reading.next_at.length" class="quiet">
        Next:
        <template v-for="(at, number) in reading.next_at" :key="at"
          >{{ number ? ', ' : '' }}<TimeLabel :at="at" /></template
        >. Everyone was read last <TimeLabel :at="reading.full_at" never="never" />; between, what changed.
      </p>
      <div class="row">
        <BusyButton type="submit" color="primary" :busy="checking">Save and check</BusyButton>
        <BusyButton variant="outlined" :busy="checking" @click="tryIt(false)"
          >Check without saving</BusyButton
        >
      </div>
    </form>
    <template v-if="reading && kind === 'csv'">
      <h3>Files</h3>
      <v-file-input
        label="users.csv, groups.csv, memberships.csv"
        accept=".csv,text/csv"
        multiple
        class="narrow"
        @update:model-value="upload"
      />
      <ul class="plainlist">
        <li v-for="file in reading.files" :key="file.name">
          <span class="mono">{{ file.name }}</span> {{ file.size.toLocaleString('en') }} bytes,
          <TimeLabel :at="file.changed_at" />
        </li>
      </ul>
    </template>
    <CheckSteps v-if="check" :check="check" />
    <template v-if="check && check.sample.length">
      <h3>Result of the source policy for the first records</h3>
      <div class="scroll" role="group" aria-label="Sample records" tabindex="0">
        <table class="plain">
          <caption class="visually-hidden">
            Sample
          </caption>
          <thead>
            <tr>
              <th scope="col">Name in the source</th>
              <th scope="col">User name in Dravo</th>
              <th v-if="check.sample.some((each) => each.groups.length)" scope="col">
                Groups from attributes
              </th>
              <th scope="col">Accepted</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(each, number) in check.sample.slice(0, 8)" :key="number">
              <td>{{ each.name }}</td>
              <td class="mono">{{ each.user?.userName }}</td>
              <td v-if="check.sample.some((one) => one.groups.length)">{{ each.groups.join(', ') }}</td>
              <td><StatusLabel :status="each.accepted ? 'ok' : 'refused'" /> {{ each.message }}</td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
  </section>
</template>

<style scoped>
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(300px, 1fr));
  gap: 18px 16px;
  align-items: start;
}
.narrow {
  max-width: 420px;
}
h3 {
  font-size: 15px;
  margin: 16px 0 4px;
}
.plainlist {
  margin: 0;
  padding-left: 20px;
}
</style>
