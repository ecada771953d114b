<script setup lang="ts">
// Changes a role of an application, after a preview; its key stays.
import { computed, reactive, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { confirmationOf } from '../../app/assignments'
import { useConfirmation } from '../../app/confirmation'
import { usePaused } from '../../app/debounce'
import ChangePreview from '../../components/ChangePreview.vue'
import FormDialog from '../../components/FormDialog.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
// The role that is edited.
const role = defineModel<Schemas['Role'] | null>({ required: true })
const open = computed({
  get: () => role.value !== null,
  set: (now) => (role.value = now ? role.value : null),
})
// Stays while the dialog closes.
const shown = ref('')
const fields = reactive({ label: '', rank: '10', sent_value: '', description: '' })
watch(role, (now) => {
  if (!now) return
  shown.value = now.label
  fields.label = now.label
  fields.rank = String(now.rank)
  fields.sent_value = now.sent_value ?? ''
  fields.description = now.description ?? ''
})
const params = computed(() => ({ path: { key: props.application.key, role: role.value?.key ?? '' } }))
const wish = computed(() => ({ ...fields, rank: Number(fields.rank) }))
const settled = usePaused(() => wish.value, 300)
const { typed, wrong, busy, attempt, effects } = useConfirmation(
  open,
  () => ['roles', params.value.path, settled.value],
  () =>
    answered(
      api.POST('/api/v1/applications/{key}/roles/{role}/preview', {
        params: params.value,
        body: settled.value,
      }),
    ),
  () => settled.value === wish.value,
)
/** Shown where anybody's access changes; the sentences say the rest. */
const access = computed(() => {
  const found = effects.data.value?.access
  return found && (found.users.length || found.confirm) ? found : null
})
const looking = computed(() => settled.value !== wish.value || effects.isFetching.value)
async function save(): Promise<void> {
  const body = { ...wish.value, ...confirmationOf(effects.data.value?.access ?? undefined, typed.value) }
  const request = () =>
    answered(api.PATCH('/api/v1/applications/{key}/roles/{role}', { params: params.value, body }))
  if (await attempt(request)) role.value = null
}
</script>

<template>
  <FormDialog
    v-model="open"
    :title="`Edit role ${shown}`"
    act="Save"
    :wrong="wrong ?? effects.error.value"
    :busy="busy"
    :waiting="looking"
    wide
    @done="save"
  >
    <v-text-field v-model="fields.label" label="Role name" autocomplete="off" />
    <v-text-field
      v-model="fields.rank"
      label="Rank"
      type="number"
      hint="The role with the highest rank is the highest role."
      persistent-hint
    />
    <v-text-field
      v-model="fields.sent_value"
      class="mono"
      label="Value sent to the application"
      :hint="`Such as a URN or an ID. Empty: the key, ${role?.key ?? ''}.`"
      persistent-hint
      autocomplete="off"
    />
    <v-textarea v-model="fields.description" label="What the role permits" rows="2" auto-grow max-rows="6" />
    <ul v-if="effects.data.value?.effects.length" class="effects">
      <li v-for="each in effects.data.value.effects" :key="each">{{ each }}</li>
    </ul>
    <ChangePreview v-if="access" v-model:confirm="typed" :preview="access" />
  </FormDialog>
</template>

<style scoped>
.effects {
  margin: 0 0 12px;
  padding-left: 20px;
}
</style>
