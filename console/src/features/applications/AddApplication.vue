<script setup lang="ts">
// Adds an application, from a template if one fits.
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { answered, api } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { keyOf } from '../../app/keys'
import FormDialog from '../../components/FormDialog.vue'
import KeyField from '../../components/KeyField.vue'
import OwnerSelect from '../../components/OwnerSelect.vue'

const open = defineModel<boolean>({ required: true })
const router = useRouter()
const { wrong, busy, attempt } = useAttempts()
const fields = reactive({ label: '', key: '', owner: '', trackedOnly: false })
const template = ref<string | null>(null)
const answers = ref<Record<string, string>>({})
watch(open, (now) => {
  if (!now) return
  Object.assign(fields, { label: '', key: '', owner: '', trackedOnly: false })
  template.value = null
  wrong.value = null
})
const templates = useQuery({
  queryKey: ['application-templates'],
  enabled: open,
  queryFn: () => answered(api.GET('/api/v1/application-templates')),
})
const items = computed(() => [
  { title: 'No template', value: null },
  ...(templates.data.value?.items ?? []).map((each) => ({
    title: each.own ? `${each.label} (your organization)` : each.label,
    value: each.key,
    props: { subtitle: each.description },
  })),
])
const chosen = computed(() => templates.data.value?.items.find((each) => each.key === template.value))
watch(chosen, (now, before) => {
  answers.value = {}
  // A label that was not typed follows the template.
  if (now && (!fields.label || fields.label === before?.label)) fields.label = now.label
})
const roles = computed(() => chosen.value?.roles.map((each) => each.label).join(', '))
async function add(): Promise<void> {
  let key = ''
  const body = {
    key: fields.key || keyOf(fields.label),
    label: fields.label,
    owner: fields.owner || null,
    tracked_only: !template.value && fields.trackedOnly,
    template: template.value,
    answers: answers.value,
  }
  const call = async () => (key = (await answered(api.POST('/api/v1/applications', { body }))).key)
  if (await attempt(call)) await router.push(`/applications/${key}/settings`)
}
</script>

<template>
  <FormDialog v-model="open" title="Add application" act="Add" :wrong="wrong" :busy="busy" @done="add">
    <v-select v-model="template" :items="items" label="Template" />
    <div v-if="chosen" class="quiet about">
      {{ chosen.description }}
      <template v-if="roles"> Roles: {{ roles }}.</template>
      <div v-if="chosen.needs">The application needs: {{ chosen.needs }}</div>
    </div>
    <v-text-field v-model="fields.label" label="Label" autocomplete="off" />
    <KeyField v-model="fields.key" :label="fields.label" hint="Used in URLs. It cannot be changed later." />
    <v-text-field
      v-for="each in chosen?.questions ?? []"
      :key="each.name"
      v-model="answers[each.name]"
      :label="each.label"
      :placeholder="each.example"
      persistent-placeholder
      :hint="`${each.hint} Used in: ${each.used_in.join(', ')}. Leave it empty to enter the address later.`"
      persistent-hint
      autocomplete="off"
    />
    <OwnerSelect v-model="fields.owner" />
    <v-checkbox
      v-if="!template"
      v-model="fields.trackedOnly"
      label="Track only: Dravo does not provision accounts"
    />
  </FormDialog>
</template>

<style scoped>
.about {
  margin-bottom: 8px;
}
</style>
