<script setup lang="ts">
// Sends an invitation again, or withdraws it.
import { ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useMay } from '../../app/session'
import ErrorMessage from '../../components/ErrorMessage.vue'
import FormDialog from '../../components/FormDialog.vue'

const props = defineProps<{ invitation: Schemas['Invitation'] }>()
const may = useMay()
const { wrong, attempt } = useAttempts()
const { wrong: refused, busy, attempt: attemptWithdraw } = useAttempts()
const asking = ref(false)
const sent = ref(false)
const params = { path: { id: props.invitation.id } }
async function resend(): Promise<void> {
  sent.value = await attempt(() => answered(api.POST('/api/v1/invitations/{id}/resend', { params })))
}
async function withdraw(): Promise<void> {
  const done = await attemptWithdraw(() =>
    answered(api.POST('/api/v1/invitations/{id}/withdraw', { params })),
  )
  if (done) asking.value = false
}
</script>

<template>
  <template v-if="['open', 'expired'].includes(invitation.status) && may('users.change')">
    <ErrorMessage :wrong="wrong" />
    <span v-if="sent" role="status">Sent.</span>
    <v-btn
      size="small"
      variant="outlined"
      :aria-label="`Send again the invitation of ${invitation.user.display_name}`"
      @click="resend"
      >Send again</v-btn
    >
    <v-btn
      size="small"
      variant="text"
      :aria-label="`Withdraw the invitation of ${invitation.user.display_name}`"
      @click="((refused = null), (asking = true))"
      >Withdraw</v-btn
    >
    <FormDialog
      v-model="asking"
      :title="`Withdraw the invitation of ${invitation.user.display_name}?`"
      act="Withdraw"
      :wrong="refused"
      :busy="busy"
      serious
      @done="withdraw"
    >
      <p class="quiet">The link stops working, and the pending user is deleted.</p>
    </FormDialog>
  </template>
</template>
