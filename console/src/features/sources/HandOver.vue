<script setup lang="ts">
// Hands the users of a source over to another one: the impact list first, a pilot group or everyone, and a
// way back.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useConfirmation } from '../../app/confirmation'
import BusyButton from '../../components/BusyButton.vue'
import ChangePreview from '../../components/ChangePreview.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import FormDialog from '../../components/FormDialog.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ source: Schemas['Source'] }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ done: [] }>()
const params = { path: { key: props.source.key } }
const to = ref<string | null>(null)
const group = ref('')
const sources = useQuery({
  queryKey: ['sources', 'to-choose'],
  enabled: computed(() => open.value),
  queryFn: () => answered(api.GET('/api/v1/sources', { params: { query: { count: 500 } } })),
})
const choices = computed(() =>
  (sources.data.value?.items ?? [])
    .filter((each) => each.key !== props.source.key && each.connection_type !== 'local' && !each.retired_at)
    .map((each) => ({ title: each.label, value: each.key })),
)
const wish = computed(() => ({ to: to.value ?? '', group: group.value.trim() || null }))
const {
  typed,
  wrong,
  busy,
  attempt,
  effects: impact,
} = useConfirmation(
  open,
  () => ['sources', props.source.key, 'hand-over', 'preview', wish.value],
  () => answered(api.POST('/api/v1/sources/{key}/hand-over/preview', { params, body: wish.value })),
  () => Boolean(to.value),
)
async function carry(): Promise<void> {
  const body = { ...wish.value, confirm: typed.value }
  if (await attempt(() => answered(api.POST('/api/v1/sources/{key}/hand-over', { params, body })))) {
    open.value = false
    await state.refetch()
    emit('done')
  }
}
const state = useQuery({
  queryKey: ['sources', props.source.key, 'hand-over'],
  queryFn: () => answered(api.GET('/api/v1/sources/{key}/hand-over', { params })),
})
const undo = () =>
  attempt(async () => {
    await answered(api.POST('/api/v1/sources/{key}/hand-over/undo', { params }))
    await state.refetch()
    emit('done')
  })
const outcomes: Record<string, [string, string]> = {
  matched: ['ok', 'reported by both sources'],
  linked: ['ok', 'linked to a record of the new source'],
  unmatched: ['left', 'no record at the new source'],
  matched_twice: ['conflict', 'matches several records; decide first'],
}
</script>

<template>
  <section
    v-if="state.data.value && ['pilot', 'done'].includes(state.data.value.status)"
    class="panel moved"
    aria-label="Hand-over"
  >
    <div class="grow">
      <div>
        {{ state.data.value.users.toLocaleString('en') }}
        {{ state.data.value.users === 1 ? 'user was' : 'users were' }} handed over to
        <router-link :to="`/sources/${state.data.value.to}`">{{ state.data.value.to }}</router-link>
        <TimeLabel :at="state.data.value.changed_at" />{{
          state.data.value.status === 'pilot' ? ', as a pilot group' : ''
        }}.
      </div>
      <ErrorMessage :wrong="open ? null : wrong" />
    </div>
    <BusyButton variant="outlined" :busy="busy" @click="undo">Undo hand-over</BusyButton>
  </section>
  <FormDialog
    v-model="open"
    :title="`Hand over the users of ${source.label}`"
    act="Hand over"
    :wrong="wrong ?? (to ? impact.error.value : null)"
    :busy="busy"
    :waiting="!to || impact.isFetching.value"
    serious
    wide
    @done="carry"
  >
    <v-select v-model="to" :items="choices" label="New source" />
    <v-text-field
      v-model="group"
      label="Pilot group (name or ID)"
      hint="Leave it empty to hand over all users. The old source is retired then."
      persistent-hint
    />
    <template v-if="to && impact.data.value">
      <ul class="effects">
        <li v-for="each in impact.data.value.effects.effects" :key="each">{{ each }}</li>
      </ul>
      <div v-if="impact.data.value.users.length" class="scroll" role="group" aria-label="Users" tabindex="0">
        <table class="plain">
          <thead>
            <tr>
              <th scope="col">User</th>
              <th scope="col">Outcome</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="each in impact.data.value.users" :key="each.id">
              <td>{{ each.name }}</td>
              <td>
                <StatusLabel :status="outcomes[each.outcome]![0]" />
                {{ outcomes[each.outcome]![1] }}
              </td>
            </tr>
          </tbody>
        </table>
      </div>
      <ChangePreview
        v-if="impact.data.value.effects.access"
        v-model:confirm="typed"
        :preview="impact.data.value.effects.access"
      />
    </template>
  </FormDialog>
</template>

<style scoped>
.moved {
  align-items: center;
  display: flex;
  gap: 16px;
}
.moved .grow {
  flex: 1;
}
.effects {
  margin: 12px 0;
  padding-left: 20px;
}
.scroll {
  max-height: 240px;
  overflow: auto;
}
</style>
