<script setup lang="ts">
// The access policy of an application in a sentence, and a dialog that previews a change.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { confirmationOf } from '../../app/assignments'
import { useAttempts } from '../../app/actions'
import FormDialog from '../../components/FormDialog.vue'
import ChangePreview from '../../components/ChangePreview.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
const emit = defineEmits<{ done: [] }>()
const policy = computed(() => props.application.policy)
const label = (key: string | null) => props.application.roles.find((each) => each.key === key)?.label ?? key
const told = computed(() => {
  const { eligibility, fallback, fallback_role, several, first } = policy.value
  return [
    eligibility === 'everyone' ? 'All users are eligible.' : 'Only assigned users are eligible.',
    fallback === 'no_access'
      ? 'Users without an assignment have no access.'
      : fallback === 'retain'
        ? 'Users who lose their last assignment keep their roles.'
        : `Users without an assignment get the role ${label(fallback_role)}.`,
    several === 'all' ? 'Users keep all their roles.' : 'Users keep only their highest role.',
    first === 'direct'
      ? 'Direct assignments take precedence over groups and rules.'
      : first === 'rules'
        ? 'Groups and rules take precedence over direct assignments.'
        : '',
  ]
    .filter(Boolean)
    .join(' ')
})

const choices = {
  eligibility: [
    { title: 'Assigned users only', value: 'assigned' },
    { title: 'All users', value: 'everyone' },
  ],
  fallback: [
    { title: 'No access', value: 'no_access' },
    { title: 'Fallback role', value: 'fallback_role' },
    { title: 'Keep their last roles', value: 'retain' },
  ],
  several: [
    { title: 'Keep all', value: 'all' },
    { title: 'Keep the highest only', value: 'highest' },
  ],
  first: [
    { title: 'Equal', value: 'both' },
    { title: 'Direct assignments first', value: 'direct' },
    { title: 'Groups and rules first', value: 'rules' },
  ],
} as const
const roles = computed(() => props.application.roles.map((each) => ({ title: each.label, value: each.key })))

const open = ref(false)
const wanted = ref({ ...policy.value })
const { wrong, busy, attempt } = useAttempts()
const typed = ref('')
watch(open, (now) => {
  if (now) wanted.value = { ...policy.value }
  typed.value = ''
  wrong.value = null
})
const whole = computed(() => wanted.value.fallback !== 'fallback_role' || wanted.value.fallback_role)
const preview = useQuery({
  queryKey: computed(() => ['policy', props.application.key, wanted.value]),
  enabled: computed(() => Boolean(open.value && whole.value)),
  staleTime: 0,
  retry: false,
  queryFn: () =>
    answered(
      api.POST('/api/v1/applications/{key}/policy/preview', {
        params: { path: { key: props.application.key } },
        body: wanted.value,
      }),
    ),
})
async function change(): Promise<void> {
  if (preview.isFetching.value) return
  const path = { key: props.application.key }
  const body = { ...wanted.value, ...confirmationOf(preview.data.value, typed.value) }
  if (
    await attempt(() => answered(api.PUT('/api/v1/applications/{key}/policy', { params: { path }, body })))
  ) {
    open.value = false
    emit('done')
  } else await preview.refetch()
}
</script>

<template>
  <div class="row policy">
    <p class="grow">{{ told }}</p>
    <v-btn size="small" variant="outlined" @click="open = true">Edit access policy</v-btn>
  </div>
  <FormDialog
    v-model="open"
    title="Access policy"
    act="Save"
    :wrong="wrong"
    :busy="busy || preview.isFetching.value"
    wide
    @done="change"
  >
    <v-select v-model="wanted.eligibility" :items="choices.eligibility" label="Eligible users" />
    <div class="row">
      <v-select v-model="wanted.fallback" :items="choices.fallback" label="Users without an assignment" />
      <v-select
        v-if="wanted.fallback === 'fallback_role'"
        v-model="wanted.fallback_role"
        :items="roles"
        label="Fallback role"
      />
    </div>
    <v-select v-model="wanted.several" :items="choices.several" label="Multiple roles" />
    <v-select v-model="wanted.first" :items="choices.first" label="Precedence" />
    <ChangePreview v-if="preview.data.value && whole" v-model:confirm="typed" :preview="preview.data.value" />
  </FormDialog>
</template>

<style scoped>
.policy {
  align-items: center;
  margin-bottom: 10px;
}
.policy p {
  margin: 0;
}
.grow {
  flex: 1;
}
</style>
