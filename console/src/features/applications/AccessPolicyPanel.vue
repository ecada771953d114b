<script setup lang="ts">
// How an application decides: said in a sentence, changed in a dialog that shows first what would change.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { sure } from '../../app/assignments'
import { useAttempts } from '../../app/actions'
import FormDialog from '../../components/FormDialog.vue'
import ChangePreview from '../../components/ChangePreview.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
const emit = defineEmits<{ done: [] }>()
const policy = computed(() => props.application.policy)
const label = (key: string | null) => props.application.roles.find((each) => each.key === key)?.label ?? key
const told = computed(() => {
  const { eligibility, fallback, default_role, several, first } = policy.value
  return [
    eligibility === 'everybody' ? 'Open to everybody.' : 'Open to the assigned only.',
    fallback === 'no access'
      ? 'To whom nothing gives a role has no access.'
      : fallback === 'keep'
        ? 'To whom nothing gives a role any more keeps what they have.'
        : `To whom nothing gives a role is ${label(default_role)}.`,
    several === 'all' ? 'All roles count.' : 'Of several roles the highest counts.',
    first === 'direct'
      ? 'Direct assignments come before rules.'
      : first === 'rules'
        ? 'Rules come before direct assignments.'
        : '',
  ]
    .filter(Boolean)
    .join(' ')
})

const choices = {
  eligibility: [
    { title: 'The assigned only', value: 'assigned' },
    { title: 'Everybody', value: 'everybody' },
  ],
  fallback: [
    { title: 'No access', value: 'no access' },
    { title: 'The default role', value: 'default role' },
    { title: 'Keep what they have', value: 'keep' },
  ],
  several: [
    { title: 'All count', value: 'all' },
    { title: 'The highest counts', value: 'highest' },
  ],
  first: [
    { title: 'Both are heard', value: 'both' },
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
const whole = computed(() => wanted.value.fallback !== 'default role' || wanted.value.default_role)
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
  const body = { ...wanted.value, ...sure(preview.data.value, typed.value) }
  if (await attempt(() => answered(api.PUT('/api/v1/applications/{key}/policy', { params: { path }, body })))) {
    open.value = false
    emit('done')
  } else await preview.refetch()
}
</script>

<template>
  <div class="row policy">
    <p class="grow">{{ told }}</p>
    <v-btn size="small" variant="outlined" @click="open = true">Change how it decides</v-btn>
  </div>
  <FormDialog
    v-model="open"
    title="How it decides"
    act="Decide like this"
    :wrong="wrong"
    :busy="busy || preview.isFetching.value"
    wide
    @done="change"
  >
    <v-select v-model="wanted.eligibility" :items="choices.eligibility" label="Who may come in" />
    <div class="row">
      <v-select v-model="wanted.fallback" :items="choices.fallback" label="If nothing gives a role" />
      <v-select
        v-if="wanted.fallback === 'default role'"
        v-model="wanted.default_role"
        :items="roles"
        label="Default role"
      />
    </div>
    <v-select v-model="wanted.several" :items="choices.several" label="Of several roles" />
    <v-select
      v-model="wanted.first"
      :items="choices.first"
      label="Where direct assignments and rules both give a role"
    />
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
