<script setup lang="ts">
// Two columns: what we give to the other side, and what real traffic has shown of it, each with its time.
import { mdiAlertOutline, mdiFileDownloadOutline } from '@mdi/js'
import type { Schemas } from '../../api/client'
import ChecklistStatus from '../../components/ChecklistStatus.vue'
import ChecklistValues from '../../components/ChecklistValues.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ sheet: Schemas['ExchangeSheet'] }>()

/** Hand the sheet over as a file: to be sent to whoever runs the other side. */
function save(): void {
  const address = URL.createObjectURL(new Blob([props.sheet.text], { type: 'text/plain' }))
  const link = Object.assign(document.createElement('a'), {
    href: address,
    download: `${props.sheet.source.key}-scim-sheet.txt`,
  })
  link.click()
  URL.revokeObjectURL(address)
}
</script>

<template>
  <div class="two">
    <section class="panel" aria-labelledby="give">
      <h2 id="give">Give to the other side</h2>
      <ChecklistValues :values="sheet.give">
        <dt>Token</dt>
        <dd>
          <template v-if="sheet.usable_tokens">{{ sheet.usable_tokens }} in force</template>
          <strong v-else class="missing"
            ><v-icon :icon="mdiAlertOutline" size="18" aria-hidden="true" /> none yet: make one below</strong
          >
          <slot name="token" />
        </dd>
      </ChecklistValues>
      <v-btn variant="outlined" class="save" :prepend-icon="mdiFileDownloadOutline" @click="save">
        Save as text to send
      </v-btn>
    </section>
    <section class="panel" aria-labelledby="seen">
      <h2 id="seen">Get from the other side</h2>
      <p class="quiet">Each is ticked when real traffic has shown it to work.</p>
      <ChecklistStatus :ticks="sheet.ticks" />
      <div v-if="sheet.trouble.length" class="trouble">
        <h3>Turned away, refused or lost</h3>
        <p v-for="each in sheet.trouble" :key="each.at"><TimeLabel :at="each.at" />: {{ each.message }}</p>
      </div>
      <h3>Switch on there</h3>
      <ul>
        <li v-for="line in sheet.provider_steps" :key="line">{{ line }}</li>
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
