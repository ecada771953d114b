<script setup lang="ts">
// The access path: source > group > assignment > role > account, one line for each reason.
import { mdiChevronRight, mdiLinkVariantOff } from '@mdi/js'
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import StatusLabel from './StatusLabel.vue'
import TimeLabel from './TimeLabel.vue'

const props = defineProps<{ access: Schemas['Access'] }>()
const by: Record<Schemas['Reason']['kind'], string> = {
  direct: 'direct',
  group: 'by group',
  everyone: 'for everyone',
  rule: 'by rule',
  pattern: 'by group name pattern',
  expression: 'by an expression',
  fallback: 'fallback role',
  retained: 'retained role',
}
const chains = computed(() => props.access.reasons.filter((reason) => props.access.until || !reason.until))
</script>

<template>
  <div class="chains">
    <div v-for="(reason, number) in chains" :key="number" class="chain">
      <template v-if="reason.source">
        <span class="piece">
          <small>Source</small
          ><router-link :to="`/sources/${reason.source.key}`">{{ reason.source.label }}</router-link>
        </span>
        <v-icon :icon="mdiChevronRight" size="18" aria-label="then" />
      </template>
      <template v-for="between in reason.through" :key="between">
        <span class="piece"><small>Nested group</small>{{ between }}</span>
        <v-icon :icon="mdiChevronRight" size="18" aria-label="then" />
      </template>
      <span v-if="reason.group" class="piece">
        <small>Group</small
        ><router-link :to="`/groups/${reason.group.id}`">{{ reason.group.name }}</router-link>
      </span>
      <span v-else-if="reason.kind === 'rule'" class="piece"
        ><small>Rule</small><code class="mono">{{ reason.rule }}</code></span
      >
      <span v-else-if="reason.kind === 'expression'" class="piece"
        ><small>Expression</small><code class="mono">{{ reason.rule }}</code></span
      >
      <span v-else-if="reason.kind === 'everyone'" class="piece"
        ><small>Everyone</small>all active users</span
      >
      <span v-else class="piece"><small>User</small>{{ access.user.display_name }}</span>
      <v-icon :icon="mdiChevronRight" size="18" aria-label="then" />
      <span class="piece">
        <small>{{ reason.assignment ? 'Assignment' : 'Policy' }}</small>
        <router-link :to="`/applications/${access.application.key}/mapping`">
          {{ by[reason.kind] }}{{ reason.by ? `, by ${reason.by}` : '' }}
        </router-link>
      </span>
      <v-icon
        :icon="reason.until ? mdiLinkVariantOff : mdiChevronRight"
        size="18"
        :aria-label="reason.until ? 'broken, then' : 'then'"
      />
      <span class="piece"><small>Role</small>{{ access.role.label }}</span>
      <template v-if="access.seat">
        <v-icon :icon="mdiChevronRight" size="18" aria-label="then" />
        <span class="piece">
          <small>Seat, {{ access.seat.plan.label }}</small>
          <span v-if="access.seat.since">since <TimeLabel :at="access.seat.since" /></span>
          <router-link v-else :to="`/applications/${access.application.key}/seats?who=waiting`"
            ><StatusLabel status="waiting"
          /></router-link>
        </span>
      </template>
      <v-icon :icon="mdiChevronRight" size="18" aria-label="then" />
      <span class="piece">
        <small>Account</small>
        <router-link v-if="access.account?.task" :to="`/provisioning/tasks/${access.account.task.id}`">
          <StatusLabel :status="access.account.status" />
        </router-link>
        <StatusLabel v-else-if="access.account" :status="access.account.status" />
        <span v-else class="quiet">{{
          access.seat && !access.seat.since ? 'waiting for a seat' : 'not provisioned'
        }}</span>
      </span>
      <span class="since quiet">
        since <TimeLabel :at="reason.since" /><template v-if="reason.until">
          until <TimeLabel :at="reason.until"
        /></template>
        <template v-if="reason.note"> · {{ reason.note }}</template>
      </span>
    </div>
  </div>
</template>

<style scoped>
.chain {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 4px 7px;
  padding: 4px 0;
}
.piece {
  display: inline-flex;
  flex-direction: column;
  padding: 2px 10px 4px;
  border: 1px solid rgb(var(--v-theme-line));
  border-radius: 6px;
  background: rgb(var(--v-theme-background));
}
.piece small {
  font-size: 12px;
  color: rgb(var(--v-theme-rest));
}
.since {
  font-size: 13px;
  padding-left: 4px;
}
</style>
