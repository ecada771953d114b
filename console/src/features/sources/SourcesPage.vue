<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { answered, api } from '../../api/client'
import FormDialog from '../../components/FormDialog.vue'
import KeyField from '../../components/KeyField.vue'
import EmptyState from '../../components/EmptyState.vue'
import PagedTable from '../../components/PagedTable.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import { keyOf } from '../../app/keys'

const router = useRouter()
const queries = useQueryClient()
const adding = ref(false)
const label = ref('')
const key = ref('')
const how = ref<'inbound_scim' | 'import' | 'sign_in'>('inbound_scim')
const wrong = ref<unknown>(null)
const template = ref<string | null>(null)
const templates = useQuery({
  queryKey: ['source-templates'],
  queryFn: () => answered(api.GET('/api/v1/source-templates')),
  enabled: adding,
})
const choices = computed(
  () => templates.data.value?.items.filter((each) => each.connection_type === how.value) ?? [],
)
const chosen = computed(() => choices.value.find((each) => each.key === template.value))
watch(how, () => (template.value = null))

async function add(): Promise<void> {
  try {
    const body = {
      key: key.value || keyOf(label.value),
      label: label.value,
      connection_type: how.value,
      template: template.value,
    }
    const made = await answered(api.POST('/api/v1/sources', { body }))
    await queries.invalidateQueries()
    // The form of an import stays open while its settings are saved.
    const tab = { inbound_scim: '', import: '/import', sign_in: template.value ? '/sign-in' : '' }[how.value]
    await router.push(`/sources/${made.key}${tab}`)
  } catch (problem) {
    wrong.value = problem
  }
}
const fetch = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/sources', { params: { query: { after, count } } }))
</script>

<template>
  <div class="page">
    <div class="head">
      <div class="grow">
        <h1>Sources</h1>
        <p class="lead">Identity providers, directories and files that report users and groups.</p>
      </div>
      <v-btn color="primary" @click="adding = true">Add source</v-btn>
    </div>
    <div class="panel">
      <PagedTable
        name="sources"
        caption="Sources"
        :columns="['Source', 'Key', 'Connection type', 'Users', 'Groups', 'Last activity']"
        :fetch="fetch"
        :refresh="5000"
      >
        <template #row="{ item }">
          <td>
            <router-link :to="`/sources/${item.key}`">{{ item.label }}</router-link>
          </td>
          <td class="mono">{{ item.key }}</td>
          <td>
            {{
              item.connection_type === 'inbound_scim'
                ? 'Inbound SCIM'
                : item.connection_type === 'import'
                  ? item.read_as
                    ? `Import (${item.read_as})`
                    : 'Import'
                  : item.connection_type === 'sign_in'
                    ? 'Sign-in'
                    : item.connection_type
            }}
            <div v-if="item.connection_type === 'inbound_scim' && item.scim_status !== 'enabled'">
              <StatusLabel :status="item.scim_status" />
            </div>
            <div v-if="item.waiting_deactivations">
              <router-link :to="`/sources/${item.key}/scim-policy`"
                >{{ item.waiting_deactivations.toLocaleString('en') }} deactivations wait</router-link
              >
            </div>
            <div v-if="item.sign_in_status"><StatusLabel :status="item.sign_in_status" /></div>
            <div v-if="item.conflicts">
              <router-link :to="`/sources/${item.key}/conflicts`">{{ item.conflicts }} conflicts</router-link>
            </div>
          </td>
          <td>{{ item.users.toLocaleString('en') }}</td>
          <td>
            <router-link :to="`/groups?source=${item.key}`">{{
              item.groups.toLocaleString('en')
            }}</router-link>
          </td>
          <td>
            <StatusLabel v-if="item.run_status" :status="item.run_status" />
            <TimeLabel :at="item.last_activity_at" />
          </td>
        </template>
        <template #empty>
          <EmptyState title="No sources yet">
            Add an identity provider that sends users to Dravo, or a directory that Dravo imports.
          </EmptyState>
        </template>
      </PagedTable>
    </div>
    <FormDialog v-model="adding" title="Add source" act="Add" :wrong="wrong" @done="add">
      <v-radio-group v-model="how" label="Connection type" hide-details>
        <v-radio
          value="inbound_scim"
          label="Inbound SCIM: an identity provider sends users and groups to Dravo"
        />
        <v-radio
          value="import"
          label="Import: Dravo reads an LDAP directory, a SCIM service or CSV files on a schedule"
        />
        <v-radio
          value="sign_in"
          label="Sign-in: users sign in with SAML, OpenID Connect or an emailed code, and are created just in time"
        />
      </v-radio-group>
      <v-select
        v-model="template"
        :items="choices.map((each) => ({ title: each.label, value: each.key }))"
        label="Template (optional)"
        :hint="
          chosen?.description ?? 'A template fills in settings and attribute mapping. You can change all.'
        "
        persistent-hint
        clearable
      />
      <v-text-field v-model="label" label="Label" hint="For example, Staff directory" />
      <KeyField
        v-model="key"
        :label="label"
        hint="Part of the URL that the source calls. It cannot be changed later."
      />
    </FormDialog>
  </div>
</template>
