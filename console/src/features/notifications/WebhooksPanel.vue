<script setup lang="ts">
// Webhooks: addresses to which events are posted, each with a secret that signs the messages.
import { ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useMay } from '../../app/session'
import EmptyState from '../../components/EmptyState.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import FormDialog from '../../components/FormDialog.vue'
import GuideButton from '../../components/GuideButton.vue'
import PagedTable from '../../components/PagedTable.vue'
import SecretOnce from '../../components/SecretOnce.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

type Webhook = Schemas['Webhook']
const may = useMay()
const dialog = ref(false)
const webhook = ref<Webhook | null>(null)
const label = ref('')
const url = ref('')
const secret = ref('')
const told = ref('')
const { wrong, attempt } = useAttempts()
const { wrong: refused, busy, attempt: attemptSave } = useAttempts()
function edit(each: Webhook | null): void {
  webhook.value = each
  label.value = each?.label ?? ''
  url.value = each?.url ?? ''
  refused.value = null
  dialog.value = true
}
async function save(): Promise<void> {
  const id = webhook.value?.id
  const body = { label: label.value, url: url.value }
  const request = async () => {
    if (id) {
      const params = { path: { id } }
      await answered(api.PATCH('/api/v1/notifications/webhooks/{id}', { params, body }))
    } else secret.value = (await answered(api.POST('/api/v1/notifications/webhooks', { body }))).secret
  }
  if (await attemptSave(request)) dialog.value = false
}
const enable = (id: string, enabled: boolean) =>
  attempt(() =>
    answered(
      api.PATCH('/api/v1/notifications/webhooks/{id}', { params: { path: { id } }, body: { enabled } }),
    ),
  )
const rotate = (id: string) =>
  attempt(async () => {
    const params = { path: { id } }
    secret.value = (await answered(api.POST('/api/v1/notifications/webhooks/{id}/secret', { params }))).secret
  })
async function test(each: Webhook): Promise<void> {
  told.value = ''
  await attempt(async () => {
    const params = { path: { id: each.id } }
    const found = await answered(api.POST('/api/v1/notifications/webhooks/{id}/test', { params }))
    told.value = `${each.label} answered ${found.status}. ${found.answer}`
  })
}
const remove = (id: string) =>
  attempt(() => answered(api.DELETE('/api/v1/notifications/webhooks/{id}', { params: { path: { id } } })))
const webhooks = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/notifications/webhooks', { params: { query: { after, count } } }))
</script>

<template>
  <section class="panel" aria-labelledby="webhooks">
    <div class="row between">
      <h2 id="webhooks">Webhooks</h2>
      <div class="row">
        <GuideButton guide="webhooks" />
        <v-btn v-if="may('notifications.change')" color="primary" @click="edit(null)">Create webhook</v-btn>
      </div>
    </div>
    <p class="quiet">
      Dravo posts events to these URLs as JSON, signed.
      <a href="/api/v1/notifications/webhook-schema">Schema of the messages</a>
    </p>
    <ErrorMessage :wrong="wrong" />
    <SecretOnce v-if="secret" :secret="secret" name="Webhook secret" />
    <p v-if="told" role="status">{{ told }}</p>
    <PagedTable
      name="webhooks"
      caption="Webhooks"
      :columns="['Webhook', 'Status', 'Last accepted', '']"
      :fetch="webhooks"
    >
      <template #row="{ item }">
        <td>
          {{ item.label }}
          <div class="quiet mono">{{ item.url }}</div>
        </td>
        <td>
          <StatusLabel :status="!item.enabled ? 'disabled' : item.failing_since ? 'failed' : 'enabled'" />
          <div v-if="item.failing_since" class="quiet">since <TimeLabel :at="item.failing_since" /></div>
          <div v-if="item.trouble" class="quiet">{{ item.trouble }}</div>
        </td>
        <td><TimeLabel :at="item.sent_at" never="never" /></td>
        <td class="actions">
          <template v-if="may('notifications.change')">
            <v-btn size="small" variant="outlined" @click="test(item)">Send test message</v-btn>
            <v-btn size="small" variant="text" @click="edit(item)">Edit</v-btn>
            <v-btn size="small" variant="text" @click="rotate(item.id)">Rotate secret</v-btn>
            <v-btn size="small" variant="text" @click="enable(item.id, !item.enabled)">{{
              item.enabled ? 'Disable' : 'Enable'
            }}</v-btn>
            <v-btn size="small" variant="text" @click="remove(item.id)">Delete</v-btn>
          </template>
        </td>
      </template>
      <template #empty
        ><EmptyState title="No webhooks"
          >A webhook is a URL to which Dravo posts events as JSON.</EmptyState
        ></template
      >
    </PagedTable>
    <FormDialog
      v-model="dialog"
      :title="webhook ? `Edit webhook ${webhook.label}` : 'Create webhook'"
      :act="webhook ? 'Save' : 'Create'"
      :wrong="refused"
      :busy="busy"
      @done="save"
    >
      <v-text-field v-model="label" label="Name of the webhook" />
      <v-text-field
        v-model="url"
        label="URL"
        hint="The receiver must answer with a status from 200 to 299."
        persistent-hint
        spellcheck="false"
      />
    </FormDialog>
  </section>
</template>

<style scoped>
.actions {
  white-space: nowrap;
}
.between {
  justify-content: space-between;
}
</style>
