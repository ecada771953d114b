<script setup lang="ts">
// Adopts accounts without a user: many at once, after a preview of what happens to each.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { inWords } from '../../app/words'
import FormDialog from '../../components/FormDialog.vue'

const props = defineProps<{ application: string; ids: string[] }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ done: [] }>()
const params = { path: { key: props.application } }
const createUsers = ref(false)
const result = ref<Schemas['FoundAccounts'] | null>(null)
const { wrong, busy, attempt } = useAttempts()
const body = computed(() => ({ ids: props.ids, create_users: createUsers.value }))
watch(open, (now) => {
  if (!now) return
  createUsers.value = false
  result.value = null
  wrong.value = null
})
const preview = useQuery({
  queryKey: computed(() => ['applications', props.application, 'adopt', body.value]),
  enabled: computed(() => open.value && !result.value),
  retry: false,
  staleTime: 0,
  queryFn: () =>
    answered(api.POST('/api/v1/applications/{key}/drift/adopt/preview', { params, body: body.value })),
})
const found = computed(() => result.value ?? preview.data.value)
const useful = computed(() => (found.value ? found.value.linked + found.value.created : 0))
async function adopt(): Promise<void> {
  if (result.value) {
    open.value = false
    return
  }
  const done = await attempt(async () => {
    result.value = await answered(
      api.POST('/api/v1/applications/{key}/drift/adopt', { params, body: body.value }),
    )
  })
  if (done) emit('done')
}
</script>

<template>
  <FormDialog
    v-model="open"
    :title="`Adopt ${ids.length} ${ids.length === 1 ? 'account' : 'accounts'}?`"
    :act="result ? 'Close' : 'Adopt'"
    :wrong="wrong ?? preview.error.value"
    :busy="busy"
    :waiting="!result && (preview.isFetching.value || !useful)"
    wide
    @done="adopt"
  >
    <p class="quiet">
      Dravo links each account to the user who matches by the attributes under Settings. A user without access
      gets the role of the account.
    </p>
    <v-switch
      v-if="!result"
      v-model="createUsers"
      label="Create users for accounts that match no user"
      color="primary"
      hide-details
    />
    <div v-if="found" role="status">
      <p>
        <b>{{ found.linked }}</b> linked, <b>{{ found.created }}</b> users created,
        <b>{{ found.left }}</b> left to operators.
        <span v-if="!result" class="quiet">Nothing has been changed yet.</span>
      </p>
      <div class="scroll list" role="group" aria-label="Accounts" tabindex="0">
        <table class="plain">
          <thead>
            <tr>
              <th scope="col">Account</th>
              <th scope="col">Action</th>
              <th scope="col">User</th>
              <th scope="col">Role</th>
              <th scope="col">Reason</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="each in found.items" :key="each.id">
              <td class="mono">{{ each.name }}</td>
              <td>{{ inWords(each.action) }}</td>
              <td>{{ each.user?.display_name }}</td>
              <td>{{ each.role }}</td>
              <td>{{ each.message }} {{ each.hint }}</td>
            </tr>
          </tbody>
        </table>
      </div>
    </div>
  </FormDialog>
</template>

<style scoped>
.list {
  max-height: 300px;
  overflow-y: auto;
}
</style>
