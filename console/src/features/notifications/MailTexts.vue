<script setup lang="ts">
// The texts of emails: subject, greeting and footer of each kind, with a preview.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useItemDialog } from '../../app/editing'
import { usePaused } from '../../app/debounce'
import { useMay } from '../../app/session'
import ErrorMessage from '../../components/ErrorMessage.vue'
import FormDialog from '../../components/FormDialog.vue'
import SampleEmail from './SampleEmail.vue'

type MailText = Schemas['MailText']
const may = useMay()
const { wrong, attempt } = useAttempts()
const { wrong: refused, busy, attempt: attemptSave } = useAttempts()
const texts = useQuery({
  queryKey: ['mail texts'],
  queryFn: () => answered(api.GET('/api/v1/notifications/texts')),
})
const edited = ref<MailText | null>(null)
const open = useItemDialog(edited)
const subject = ref('')
const greeting = ref('')
const footer = ref('')
function edit(each: MailText): void {
  subject.value = each.subject
  greeting.value = each.greeting
  footer.value = each.footer
  refused.value = null
  edited.value = each
}
const wish = computed(() => ({ subject: subject.value, greeting: greeting.value, footer: footer.value }))
const settled = usePaused(() => wish.value, 300)
const sample = useQuery({
  queryKey: computed(() => ['mail texts', 'sample', edited.value?.kind, settled.value]),
  queryFn: () => {
    const params = { path: { kind: edited.value?.kind ?? '' } }
    return answered(api.POST('/api/v1/notifications/texts/{kind}/preview', { params, body: settled.value }))
  },
  enabled: () => edited.value !== null,
  retry: false,
})
async function save(): Promise<void> {
  const params = { path: { kind: edited.value?.kind ?? '' } }
  const request = () => answered(api.PUT('/api/v1/notifications/texts/{kind}', { params, body: wish.value }))
  if (await attemptSave(request)) edited.value = null
}
const reset = (kind: string) =>
  attempt(() => answered(api.DELETE('/api/v1/notifications/texts/{kind}', { params: { path: { kind } } })))
</script>

<template>
  <section class="panel" aria-labelledby="mail-texts">
    <h2 id="mail-texts">Texts of emails</h2>
    <p class="quiet">Greeting and footer stand around the content. Use the language of your users.</p>
    <ErrorMessage :wrong="wrong ?? texts.error.value" />
    <div v-if="texts.data.value" class="scroll" role="group" aria-label="Table" tabindex="0">
      <table class="plain">
        <caption class="visually-hidden">
          Texts of emails
        </caption>
        <thead>
          <tr>
            <th scope="col">Email</th>
            <th scope="col">Subject</th>
            <th scope="col">Greeting</th>
            <th scope="col">Footer</th>
            <th scope="col"><span class="visually-hidden">Actions</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="item in texts.data.value.items" :key="item.kind">
            <td>
              {{ item.label }}
              <div v-if="item.changed" class="quiet">changed</div>
            </td>
            <td>{{ item.subject }}</td>
            <td class="lines">{{ item.greeting }}</td>
            <td class="lines">{{ item.footer }}</td>
            <td class="actions">
              <template v-if="may('notifications.change')">
                <v-btn size="small" variant="outlined" @click="edit(item)">Edit text</v-btn>
                <v-btn v-if="item.changed" size="small" variant="text" @click="reset(item.kind)">Reset</v-btn>
              </template>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <FormDialog
      v-model="open"
      wide
      :title="`Text of: ${edited?.label ?? ''}`"
      act="Save"
      :wrong="refused ?? sample.error.value"
      :busy="busy"
      @done="save"
    >
      <v-text-field v-model="subject" label="Subject" />
      <v-textarea v-model="greeting" label="Greeting" rows="2" auto-grow />
      <v-textarea v-model="footer" label="Footer" rows="2" auto-grow />
      <p class="quiet">
        Placeholders:
        <template v-for="(meaning, name, index) in texts.data.value?.placeholders" :key="name"
          ><template v-if="index">, </template><code>{{ '{' + name + '}' }}</code> {{ meaning }}</template
        >
      </p>
      <SampleEmail v-if="sample.data.value" :email="sample.data.value" />
    </FormDialog>
  </section>
</template>

<style scoped>
.actions {
  white-space: nowrap;
}
.lines {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
</style>
