<script setup lang="ts">
// The setup checklist of inbound SCIM: values for the provider, and what traffic has confirmed.
import { mdiAlertOutline, mdiFileDownloadOutline } from '@mdi/js'
import type { Schemas } from '../../api/client'
import { save as saveFile } from '../../app/files'
import ChecklistStatus from '../../components/ChecklistStatus.vue'
import ChecklistValues from '../../components/ChecklistValues.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ checklist: Schemas['SetupChecklist'] }>()

/** Downloads the checklist, to send to the administrator of the provider. */
function save(): void {
  saveFile(`${props.checklist.source.key}-scim-checklist.txt`, props.checklist.text, 'text/plain')
}
</script>

<template>
  <div class="two">
    <section class="panel" aria-labelledby="give">
      <h2 id="give">Values for the identity provider</h2>
      <ChecklistValues :values="checklist.give" :warnings="checklist.warnings">
        <dt>Token</dt>
        <dd>
          <template v-if="checklist.usable_tokens">{{ checklist.usable_tokens }} active</template>
          <strong v-else class="missing"
            ><v-icon :icon="mdiAlertOutline" size="18" aria-hidden="true" /> none yet: create one
            below</strong
          >
          <slot name="token" />
        </dd>
      </ChecklistValues>
      <v-btn variant="outlined" class="save" :prepend-icon="mdiFileDownloadOutline" @click="save">
        Download as text
      </v-btn>
    </section>
    <section class="panel" aria-labelledby="seen">
      <h2 id="seen">Setup checklist</h2>
      <p class="quiet">Dravo ticks each item when real traffic confirms it.</p>
      <ChecklistStatus :ticks="checklist.ticks" />
      <div v-if="checklist.trouble.length" class="trouble">
        <h3>Rejected requests and lost data</h3>
        <p v-for="each in checklist.trouble" :key="each.at">
          <TimeLabel :at="each.at" />: {{ each.message }}
        </p>
      </div>
      <h3>Steps at the identity provider</h3>
      <ul>
        <li v-for="line in checklist.provider_steps" :key="line">{{ line }}</li>
      </ul>
    </section>
  </div>
</template>

<style scoped>
.save {
  margin-top: 14px;
}
h3 {
  font-size: 15px;
  margin: 8px 0 2px;
}
ul {
  padding-left: 20px;
  margin: 0;
}
.missing {
  color: rgb(var(--v-theme-look));
}
.trouble {
  border-left: 4px solid rgb(var(--v-theme-look));
  padding-left: 12px;
  margin-bottom: 12px;
}
.trouble p {
  margin: 2px 0 6px;
  overflow-wrap: anywhere;
}
</style>
