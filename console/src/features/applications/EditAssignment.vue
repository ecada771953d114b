<script setup lang="ts">
// Changes the role, period, note and license plan of an assignment, with a preview.
import { computed, reactive, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { type Confirmation, assignedTo, what } from '../../app/assignments'
import { useItemDialog } from '../../app/editing'
import PreviewDialog from '../../components/PreviewDialog.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
// The assignment that is edited.
const assignment = defineModel<Schemas['Assignment'] | null>({ required: true })
const emit = defineEmits<{ done: [] }>()
const open = useItemDialog(assignment)
// Stays while the dialog closes.
const title = ref('')
const fields = reactive({ role: '', plan: '', from: '', until: '', note: '' })
/** The day that a field shows: as it was set, or of the instant that was set. */
const day = (given: string | null | undefined, instant: string | null) => given ?? instant?.slice(0, 10) ?? ''
watch(assignment, (now) => {
  if (!now) return
  title.value = `Edit: ${assignedTo(now)}, ${what(now)}`
  fields.role = now.role?.key ?? ''
  fields.plan = now.plan?.key ?? ''
  fields.from = day(now.from_day, now.from)
  fields.until = day(now.until_day, now.until)
  fields.note = now.note ?? ''
})
const roles = computed(() => props.application.roles.map((each) => ({ title: each.label, value: each.key })))
const plans = computed(() => props.application.plans.map((each) => ({ title: each.label, value: each.key })))
const movable = computed(() =>
  Boolean(assignment.value?.role && (assignment.value.user || assignment.value.group)),
)
/** A date that was not touched is sent as it was, with its time. */
const unchanged = (typed: string, given: string | null | undefined, instant: string | null) =>
  typed === day(given, instant) ? (given ?? instant) : typed || null
const wish = computed(() => {
  const now = assignment.value
  return {
    from: now ? unchanged(fields.from, now.from_day, now.from) : null,
    until: now ? unchanged(fields.until, now.until_day, now.until) : null,
    note: fields.note || null,
    plan: now?.role || now?.pattern || now?.expression ? fields.plan : null,
    role: movable.value && fields.role !== now?.role?.key ? fields.role : null,
  }
})
const params = computed(() => ({ path: { id: assignment.value?.id ?? '' } }))
const look = () =>
  answered(api.POST('/api/v1/assignments/{id}/preview', { params: params.value, body: wish.value }))
const carryOut = (said: Confirmation) =>
  answered(api.PUT('/api/v1/assignments/{id}', { params: params.value, body: { ...wish.value, ...said } }))
</script>

<template>
  <PreviewDialog
    v-model="open"
    :title="title"
    act="Save"
    :about="assignment ? wish : null"
    :look="look"
    :carry-out="carryOut"
    @done="emit('done')"
  >
    <div class="row">
      <v-select v-if="movable" v-model="fields.role" :items="roles" label="Role" />
      <v-select
        v-if="plans.length && (assignment?.role || assignment?.pattern || assignment?.expression)"
        v-model="fields.plan"
        :items="[{ title: 'None', value: '' }, ...plans]"
        label="License plan"
      />
      <v-text-field v-model="fields.from" type="date" label="Start date" persistent-placeholder />
      <v-text-field v-model="fields.until" type="date" label="End date (included)" persistent-placeholder />
    </div>
    <v-text-field v-model="fields.note" label="Note" />
  </PreviewDialog>
</template>
