<script setup lang="ts">
// Settings: own sign-in and tokens, operators, and the organization.
import { computed } from 'vue'
import ApiTokens from './ApiTokens.vue'
import AnnouncementsPanel from '../notifications/AnnouncementsPanel.vue'
import EventsPanel from '../notifications/EventsPanel.vue'
import MailTexts from '../notifications/MailTexts.vue'
import MessagesPanel from '../notifications/MessagesPanel.vue'
import RulesPanel from '../notifications/RulesPanel.vue'
import WebhooksPanel from '../notifications/WebhooksPanel.vue'
import OrganizationSettings from './OrganizationSettings.vue'
import MailPanel from './MailPanel.vue'
import OperatorsPanel from './OperatorsPanel.vue'
import OwnSignInOptions from './OwnSignInOptions.vue'
import SecondFactorSetup from './SecondFactorSetup.vue'
import { useMay } from '../../app/session'

const props = defineProps<{ tab?: string }>()
const may = useMay()
const tabs = computed(() => [
  ['yours', 'Your account'] as const,
  ...(may('operators.read') ? [['operators', 'Operators'] as const] : []),
  ['organization', 'Organization'] as const,
  ...(may('notifications.read')
    ? [['notifications', 'Notifications'] as const, ['messages', 'Events and messages'] as const]
    : []),
])
const shown = computed(() => props.tab || 'yours')
</script>

<template>
  <div class="page">
    <div class="head">
      <div class="grow">
        <h1>Settings</h1>
        <p class="lead">
          Your sign-in, the operators and the organization settings. <a href="/api/v1/">API documentation</a>
        </p>
      </div>
    </div>
    <v-tabs :model-value="shown" class="tabs">
      <v-tab v-for="[key, title] in tabs" :key="key" :value="key" :to="`/settings/${key}`">{{ title }}</v-tab>
    </v-tabs>
    <template v-if="shown === 'operators'">
      <OperatorsPanel />
      <div class="below"><ApiTokens whose="all" /></div>
    </template>
    <template v-else-if="shown === 'organization'">
      <OrganizationSettings :changeable="may('settings.change')" />
      <MailPanel v-if="may('audit.read')" class="below" />
    </template>
    <template v-else-if="shown === 'notifications'">
      <RulesPanel />
      <WebhooksPanel class="below" />
      <MailTexts class="below" />
    </template>
    <template v-else-if="shown === 'messages'">
      <EventsPanel />
      <MessagesPanel class="below" />
      <AnnouncementsPanel class="below" />
    </template>
    <template v-else>
      <SecondFactorSetup />
      <OwnSignInOptions class="below" />
      <div class="below"><ApiTokens whose="own" /></div>
    </template>
  </div>
</template>

<style scoped>
.tabs {
  margin-bottom: 12px;
}
.below {
  margin-top: 12px;
}
</style>
