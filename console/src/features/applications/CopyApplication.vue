<script setup lang="ts">
// Copies an application as another instance, or makes a template of it.
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { keyOf } from '../../app/keys'
import FormDialog from '../../components/FormDialog.vue'
import KeyField from '../../components/KeyField.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
const open = defineModel<boolean>({ required: true })
const router = useRouter()
const { wrong, busy, attempt } = useAttempts()
const into = ref<'instance' | 'template'>('instance')
const label = ref('')
const key = ref('')
const description = ref('')
watch(open, (now) => {
  if (!now) return
  into.value = 'instance'
  label.value = `${props.application.label} 2`
  key.value = description.value = ''
  wrong.value = null
})
const body = computed(() => ({ key: key.value || keyOf(label.value), label: label.value }))
const copied = computed(() => {
  const { roles, plans } = props.application
  return `${roles.length} roles, ${plans.length} license plans, the provisioning settings and the access policy`
})
async function copy(): Promise<void> {
  const call = async () => {
    if (into.value === 'template') {
      const wish = { ...body.value, application: props.application.key, description: description.value }
      await answered(api.POST('/api/v1/application-templates', { body: wish }))
    } else {
      const params = { path: { key: props.application.key } }
      await answered(api.POST('/api/v1/applications/{key}/copy', { params, body: body.value }))
    }
  }
  if (!(await attempt(call))) return
  open.value = false
  if (into.value === 'instance') await router.push(`/applications/${body.value.key}/settings`)
}
</script>

<template>
  <FormDialog v-model="open" title="Copy application" act="Copy" :wrong="wrong" :busy="busy" @done="copy">
    <v-radio-group v-model="into" hide-details>
      <v-radio value="instance" label="Another instance of the application" />
      <v-radio value="template" label="A template for new applications" />
    </v-radio-group>
    <p class="quiet">Copied: {{ copied }}. Not copied: the address, the token and the assignments.</p>
    <v-text-field v-model="label" label="Label" autocomplete="off" />
    <KeyField v-model="key" :label="label" hint="It cannot be changed later." />
    <v-text-field
      v-if="into === 'template'"
      v-model="description"
      label="Description"
      hint="What tells the template apart from the others, in a sentence."
      persistent-hint
      autocomplete="off"
    />
  </FormDialog>
</template>
