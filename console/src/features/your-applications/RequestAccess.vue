<script setup lang="ts">
// The access requests of a signed-in user, and a dialog to request access.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api } from '../../api/client'
import { useAttempts } from '../../app/actions'
import ErrorMessage from '../../components/ErrorMessage.vue'
import FormDialog from '../../components/FormDialog.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ csrf: string }>()
const headers = computed(() => ({ 'X-Dravo-CSRF': props.csrf }))
const found = useQuery({
  queryKey: ['own-requests'],
  refetchInterval: 5000,
  queryFn: () => answered(api.GET('/api/v1/me/requests')),
})
const offered = computed(() => found.data.value?.offered ?? [])
const asking = ref(false)
const application = ref<string | null>(null)
const role = ref<string | null>(null)
const reason = ref('')
const { wrong, busy, attempt } = useAttempts()
const { wrong: outside, attempt: attemptOutside } = useAttempts()
const UNSURE = { title: 'I do not know which one', value: '' }
const roles = computed(() => {
  const chosen = offered.value.find((each) => each.key === application.value)
  const items = (chosen?.roles ?? []).map((each) => ({
    title: each.label,
    value: each.key,
    props: { subtitle: each.description ?? undefined },
  }))
  return [UNSURE, ...items]
})
watch(application, () => (role.value = ''))
function ask(): void {
  application.value = offered.value[0]?.key ?? null
  role.value = reason.value = ''
  wrong.value = null
  asking.value = true
}
async function send(): Promise<void> {
  const body = { application: application.value ?? '', role: role.value || null, reason: reason.value }
  const call = () => answered(api.POST('/api/v1/me/requests', { body, headers: headers.value }))
  if (await attempt(call)) asking.value = false
}
const withdraw = (id: string) =>
  attemptOutside(() =>
    answered(api.DELETE('/api/v1/me/requests/{id}', { params: { path: { id } }, headers: headers.value })),
  )
</script>

<template>
  <section
    v-if="found.data.value && (offered.length || found.data.value.items.length)"
    class="requests"
    aria-labelledby="requests"
  >
    <div class="row">
      <h2 id="requests">Access requests</h2>
      <v-btn v-if="offered.length" variant="outlined" @click="ask">Request access</v-btn>
    </div>
    <ErrorMessage :wrong="outside" />
    <ul v-if="found.data.value.items.length" class="list">
      <li v-for="each in found.data.value.items" :key="each.id" class="panel">
        <div class="grow">
          <b>{{ each.application.label }}</b><template v-if="each.role">, {{ each.role }}</template>
          <div class="quiet reason">{{ each.reason }}</div>
          <div v-if="each.answer" class="reason">Answer: {{ each.answer }}</div>
        </div>
        <div>
          <StatusLabel :status="each.status" />
          <div class="quiet"><TimeLabel :at="each.decided_at ?? each.requested_at" /></div>
        </div>
        <v-btn v-if="each.status === 'open'" size="small" variant="text" @click="withdraw(each.id)"
          >Withdraw</v-btn
        >
      </li>
    </ul>
    <p v-else class="quiet">You can request access to {{ offered.map((each) => each.label).join(', ') }}.</p>
    <FormDialog
      v-model="asking"
      title="Request access"
      act="Request"
      :wrong="wrong"
      :busy="busy"
      @done="send"
    >
      <v-select
        v-model="application"
        :items="offered.map((each) => ({ title: each.label, value: each.key }))"
        label="Application"
      />
      <v-select v-model="role" :items="roles" label="Role" />
      <v-textarea v-model="reason" label="Why do you need access?" rows="3" auto-grow max-rows="8" />
    </FormDialog>
  </section>
</template>

<style scoped>
.requests {
  margin-top: 22px;
}
.row {
  align-items: center;
  display: flex;
  gap: 14px;
  justify-content: space-between;
  margin-bottom: 10px;
}
h2 {
  margin: 0;
}
.list {
  display: grid;
  gap: 12px;
  list-style: none;
  margin: 0;
  padding: 0;
}
.list li {
  align-items: center;
  display: flex;
  gap: 16px;
}
.grow {
  flex: 1;
}
.reason {
  white-space: pre-line;
}
</style>
