<script setup lang="ts">
// Refuses an access request with a reason, which the user sees.
import { ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useItemDialog } from '../../app/editing'
import FormDialog from '../../components/FormDialog.vue'

// The request that is refused.
const request = defineModel<Schemas['AccessRequestLine'] | null>({ required: true })
const open = useItemDialog(request)
const answer = ref('')
const title = ref('')
const { wrong, busy, attempt } = useAttempts()
watch(request, (now) => {
  if (!now) return
  title.value = `Refuse request of ${now.user.display_name}`
  answer.value = ''
  wrong.value = null
})
async function refuse(): Promise<void> {
  const params = { path: { id: request.value!.id } }
  const call = () =>
    answered(api.POST('/api/v1/access/requests/{id}/refuse', { params, body: { answer: answer.value } }))
  if (await attempt(call)) request.value = null
}
</script>

<template>
  <FormDialog v-model="open" :title="title" act="Refuse" :wrong="wrong" :busy="busy" @done="refuse">
    <p class="quiet">{{ request?.reason }}</p>
    <v-textarea
      v-model="answer"
      label="Reason"
      hint="The user sees this text."
      persistent-hint
      rows="2"
      auto-grow
      max-rows="6"
    />
  </FormDialog>
</template>
