<script setup lang="ts">
// Our keys towards a SAML provider: certificates with their expiry, rotation, and a key of one's own.
import { useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { save as saveFile } from '../../app/files'
import { useMay } from '../../app/session'
import ErrorMessage from '../../components/ErrorMessage.vue'
import FormDialog from '../../components/FormDialog.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ source: string; signIn: Schemas['SignIn'] }>()
const may = useMay()
const queries = useQueryClient()
const { wrong, busy, attempt } = useAttempts()
const next = computed(() => props.signIn.certificates.some((each) => each.use === 'next'))
const uploading = ref(false)
const privateKey = ref('')
const certificate = ref('')
const rotate = (what: 'next' | 'upload' | 'use') =>
  attempt(async () => {
    const params = { path: { key: props.source } }
    const uploaded = { private_key: privateKey.value, certificate: certificate.value }
    const body = { what, ...(what === 'upload' ? uploaded : { private_key: '', certificate: '' }) }
    await answered(api.POST('/api/v1/sources/{key}/sign-in/keys', { params, body }))
    privateKey.value = certificate.value = ''
    uploading.value = false
    await queries.invalidateQueries()
  })
</script>

<template>
  <div v-for="each in signIn.certificates" :key="each.fingerprint" class="certificate">
    <StatusLabel :status="each.use" /> until <TimeLabel :at="each.until_at" />
    <v-btn size="small" variant="text" @click="saveFile(`dravo-${source}.pem`, each.pem, 'text/plain')"
      >Download</v-btn
    >
    <div class="quiet mono small">{{ each.fingerprint }}</div>
  </div>
  <ErrorMessage v-if="!uploading" :wrong="wrong" />
  <template v-if="may('sources.change')">
    <v-btn v-if="next" size="small" variant="text" @click="rotate('use')">Activate next key</v-btn>
    <template v-else>
      <v-btn size="small" variant="text" @click="rotate('next')">Create next key</v-btn>
      <v-btn size="small" variant="text" @click="uploading = true">Upload next key</v-btn>
    </template>
  </template>
  <FormDialog
    v-model="uploading"
    title="Upload next key"
    act="Upload"
    :wrong="wrong"
    :busy="busy"
    wide
    @done="rotate('upload')"
  >
    <p class="quiet">
      Dravo stores the key encrypted and never shows it again. It signs once you activate it, after the
      provider has its certificate.
    </p>
    <v-textarea
      v-model="privateKey"
      label="RSA private key (PEM, without passphrase)"
      rows="5"
      class="mono"
      spellcheck="false"
      autocomplete="off"
    />
    <v-textarea
      v-model="certificate"
      label="Its certificate (PEM)"
      rows="5"
      class="mono"
      spellcheck="false"
    />
  </FormDialog>
</template>

<style scoped>
.small {
  font-size: 11px;
}
</style>
