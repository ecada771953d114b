<script setup lang="ts">
// The sign-in settings of a source: values for the provider, values from the provider, and options.
import { mdiAlertOutline, mdiFileDownloadOutline } from '@mdi/js'
import { computed, ref } from 'vue'
import type { Schemas } from '../../api/client'
import { save as saveFile } from '../../app/files'
import { useMay } from '../../app/session'
import ChecklistStatus from '../../components/ChecklistStatus.vue'
import ChecklistValues from '../../components/ChecklistValues.vue'
import ChangeProtocol from './ChangeProtocol.vue'
import OwnKeys from './OwnKeys.vue'
import ProviderValues from './ProviderValues.vue'
import SignInOptions from './SignInOptions.vue'
import SignInStatus from './SignInStatus.vue'

const props = defineProps<{ source: string; label: string; signIn: Schemas['SignIn'] }>()
const may = useMay()
const saml = computed(() => props.signIn.protocol === 'saml')
const mailed = computed(() => props.signIn.protocol === 'email_code')
const changing = ref(false)
</script>

<template>
  <SignInStatus :source="source" :label="label" :sign-in="signIn" />
  <section v-if="mailed" class="panel" aria-labelledby="mailed">
    <h2 id="mailed">Emailed code</h2>
    <p v-if="signIn.missing.length" class="missing">
      <v-icon :icon="mdiAlertOutline" size="18" aria-hidden="true" /> Missing:
      {{ signIn.missing.join(', ') }}.
    </p>
    <p>
      Users enter their email address on the sign-in page and get a code that is valid for ten minutes. Dravo
      sends codes only to addresses in the domains of this source. Unknown addresses get a code only if the
      source policy creates users.
    </p>
    <ChecklistValues :values="signIn.give" :warnings="signIn.warnings" />
    <h3>Setup checklist</h3>
    <ChecklistStatus :ticks="signIn.ticks" />
  </section>
  <div v-else class="two">
    <section class="panel" aria-labelledby="give">
      <h2 id="give">Values for the provider</h2>
      <ChecklistValues :values="signIn.give" :warnings="signIn.warnings">
        <template v-if="saml">
          <dt>Certificate</dt>
          <dd>
            <OwnKeys :source="source" :sign-in="signIn" />
          </dd>
        </template>
      </ChecklistValues>
      <div class="row">
        <v-btn
          variant="outlined"
          :prepend-icon="mdiFileDownloadOutline"
          @click="saveFile(`${source}-sign-in-checklist.txt`, signIn.text, 'text/plain')"
          >Download as text</v-btn
        >
        <v-btn v-if="saml" variant="text" :href="signIn.give[0]!.value" target="_blank"
          >Service provider metadata</v-btn
        >
      </div>
      <h3>Steps at the provider</h3>
      <ul>
        <li v-for="line in signIn.provider_steps" :key="line">{{ line }}</li>
      </ul>
    </section>
    <ProviderValues :key="signIn.protocol" :source="source" :sign-in="signIn" />
  </div>
  <SignInOptions :key="signIn.protocol" :source="source" :sign-in="signIn" />
  <section v-if="may('sources.change')" class="panel more" aria-labelledby="protocol">
    <h2 id="protocol">Protocol</h2>
    <div class="row">
      <span>{{ signIn.protocol_label }}</span>
      <v-btn variant="outlined" size="small" :disabled="signIn.status !== 'disabled'" @click="changing = true"
        >Change protocol</v-btn
      >
      <span v-if="signIn.status !== 'disabled'" class="quiet">Disable sign-in first.</span>
    </div>
    <ChangeProtocol v-model="changing" :source="source" :label="label" :sign-in="signIn" />
  </section>
</template>

<style scoped>
dd {
  margin: 0;
  min-width: 0;
  overflow-wrap: anywhere;
}
.row {
  margin-top: 14px;
}
h3 {
  font-size: 15px;
  margin: 14px 0 2px;
}
ul {
  padding-left: 20px;
  margin: 0;
}
.missing {
  color: rgb(var(--v-theme-look));
  font-weight: 700;
}
.more {
  margin-top: 12px;
}
</style>
