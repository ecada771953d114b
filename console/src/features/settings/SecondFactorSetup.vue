<script setup lang="ts">
// The operator's own second factor.
import { useQuery } from '@tanstack/vue-query'
import { answered, api } from '../../api/client'
import SecondFactorPanel, { type FactorCalls } from '../sign-in/SecondFactorPanel.vue'

const emit = defineEmits<{ on: [] }>()
const factor = useQuery({
  queryKey: ['second-factor'],
  queryFn: () => answered(api.GET('/api/v1/second-factor')),
})
const calls: FactorCalls = {
  begin: () => answered(api.POST('/api/v1/second-factor')),
  confirm: (code) => answered(api.PUT('/api/v1/second-factor', { body: { code } })),
  disable: (body) => answered(api.POST('/api/v1/second-factor/disable', { body })),
  beginPasskey: () => answered(api.POST('/api/v1/second-factor/passkeys/begin')),
  addPasskey: (body) => answered(api.POST('/api/v1/second-factor/passkeys', { body })),
  askPasskey: () => answered(api.POST('/api/v1/second-factor/passkeys/ask')),
  deletePasskey: (id, body) =>
    answered(api.POST('/api/v1/second-factor/passkeys/{id}/delete', { params: { path: { id } }, body })),
  renewCodes: (body) => answered(api.POST('/api/v1/recovery-codes', { body })),
}
</script>

<template>
  <SecondFactorPanel v-if="factor.data.value" :factor="factor.data.value" :calls="calls" @on="emit('on')" />
</template>
