<script setup lang="ts">
// Changes the protocol of a disabled sign-in, with a preview and the typed label of the source.
import { useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useConfirmation } from '../../app/confirmation'
import FormDialog from '../../components/FormDialog.vue'

type Protocol = 'saml' | 'oidc' | 'email_code'
const props = defineProps<{ source: string; label: string; signIn: Schemas['SignIn'] }>()
const open = defineModel<boolean>({ required: true })
const queries = useQueryClient()
const params = { path: { key: props.source } }
const all: { title: string; value: Protocol }[] = [
  { title: 'SAML 2.0', value: 'saml' },
  { title: 'OpenID Connect', value: 'oidc' },
  { title: 'Emailed code', value: 'email_code' },
]
const choices = computed(() => all.filter((each) => each.value !== props.signIn.protocol))
const protocol = ref<Protocol | null>(null)
const { typed, wrong, busy, attempt, effects } = useConfirmation(
  open,
  () => ['sources', props.source, 'protocol', protocol.value],
  () => {
    const body = { protocol: protocol.value ?? 'saml', confirm: null }
    return answered(api.POST('/api/v1/sources/{key}/sign-in/protocol/preview', { params, body }))
  },
  () => protocol.value !== null,
)
const change = () =>
  attempt(async () => {
    const body = { protocol: protocol.value ?? 'saml', confirm: typed.value }
    await answered(api.POST('/api/v1/sources/{key}/sign-in/protocol', { params, body }))
    open.value = false
    await queries.invalidateQueries()
  })
</script>

<template>
  <FormDialog
    v-model="open"
    title="Change protocol"
    act="Change"
    :wrong="wrong ?? effects.error.value"
    :busy="busy"
    :waiting="effects.isFetching.value"
    serious
    wide
    @done="change"
  >
    <v-select v-model="protocol" :items="choices" label="New protocol" />
    <div v-if="effects.data.value" class="effects">
      <p v-for="each in effects.data.value.effects" :key="each">{{ each }}</p>
      <v-text-field v-model="typed" :label="`Type '${label}' to confirm`" autocomplete="off" />
    </div>
  </FormDialog>
</template>

<style scoped>
.effects p {
  margin: 0 0 8px;
}
</style>
