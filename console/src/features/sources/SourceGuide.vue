<script setup lang="ts">
// Opens the guide of a source: that of its template, else that of its connection type or protocol.
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import GuideButton from '../../components/GuideButton.vue'

const props = defineProps<{
  source: Schemas['Source']
  protocol?: string
}>()
const templates = useQuery({
  queryKey: ['source-templates'],
  queryFn: () => answered(api.GET('/api/v1/source-templates')),
  enabled: computed(() => props.source.template !== null),
})
const ofProtocol: Record<string, string> = {
  saml: 'connect-a-saml-provider',
  oidc: 'connect-an-openid-provider',
  email_code: 'sign-in-by-a-code',
}
const guide = computed(() => {
  const template = templates.data.value?.items.find((each) => each.key === props.source.template)
  if (template) return template.guide
  if (props.source.connection_type === 'import') return 'connect-a-directory'
  if (props.source.connection_type === 'inbound_scim') return 'connect-a-provider'
  return ofProtocol[props.protocol ?? ''] ?? 'connect-a-saml-provider'
})
</script>

<template>
  <GuideButton :guide="guide" />
</template>
