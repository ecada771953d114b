<script setup lang="ts">
// The operator's own second factor with recovery codes.
import { useQuery } from '@tanstack/vue-query'
import { ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import CopyValue from '../../components/CopyValue.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const emit = defineEmits<{ on: [] }>()
const { wrong, attempt } = useAttempts()
const factor = useQuery({
  queryKey: ['second-factor'],
  queryFn: () => answered(api.GET('/api/v1/second-factor')),
})
const begun = ref<Schemas['NewSecondFactor'] | null>(null)
const codes = ref<string[]>([])
const code = ref('')
const begin = () =>
  attempt(async () => {
    codes.value = []
    begun.value = await answered(api.POST('/api/v1/second-factor'))
  })
const confirm = () =>
  attempt(async () => {
    codes.value = (
      await answered(api.PUT('/api/v1/second-factor', { body: { code: code.value } }))
    ).recovery_codes
    begun.value = null
    code.value = ''
    emit('on')
  })
const off = () =>
  attempt(async () => {
    await answered(api.POST('/api/v1/second-factor/disable', { body: { code: code.value } }))
    code.value = ''
    codes.value = []
  })
</script>

<template>
  <section class="panel" aria-labelledby="factor">
    <h2 id="factor">Second factor</h2>
    <ErrorMessage :wrong="wrong" />
    <template v-if="factor.data.value?.on">
      <p>
        <StatusLabel status="enabled" /> Since <TimeLabel :at="factor.data.value.since" />;
        {{ factor.data.value.recovery_left }} recovery codes left.
      </p>
      <div v-if="codes.length" class="codes" role="status">
        <strong>Recovery codes (shown only once). Each code signs you in once without the app.</strong>
        <CopyValue v-for="each in codes" :key="each" :value="each" name="Recovery code" />
      </div>
      <p v-if="factor.data.value.required" class="quiet">A second factor is required for all operators.</p>
      <form v-else class="row" @submit.prevent="off">
        <v-text-field
          v-model="code"
          label="Code from your app, or a recovery code"
          autocomplete="one-time-code"
          class="narrow"
          hide-details
        />
        <v-btn type="submit" variant="outlined" :disabled="!code.trim()">Disable</v-btn>
      </form>
    </template>
    <template v-else-if="begun">
      <p>
        Scan the QR code with your authenticator app, or enter the secret (TOTP, six digits). Then enter the
        code that the app shows.
      </p>
      <img :src="begun.picture" alt="QR code of the secret" class="picture" />
      <dl>
        <dt>Secret</dt>
        <dd><CopyValue :value="begun.secret" name="Secret" /></dd>
        <dt>URI</dt>
        <dd><CopyValue :value="begun.address" name="Address" /></dd>
      </dl>
      <form class="row" @submit.prevent="confirm">
        <v-text-field
          v-model="code"
          label="Code from the app"
          autocomplete="one-time-code"
          class="narrow"
          hide-details
        />
        <v-btn type="submit" color="primary" :disabled="!code.trim()">Enable</v-btn>
      </form>
    </template>
    <template v-else-if="factor.data.value">
      <p>Not set up. Your password alone is enough to sign in as you.</p>
      <v-btn variant="outlined" @click="begin">Set up</v-btn>
    </template>
  </section>
</template>

<style scoped>
form {
  max-width: 460px;
}
.picture {
  display: block;
  width: 190px;
  margin-bottom: 10px;
  background: #fff;
}
.codes {
  display: grid;
  gap: 2px;
  padding: 12px 14px;
  margin: 10px 0;
  border: 1px dashed rgb(var(--v-theme-look));
  border-radius: 6px;
}
dl {
  display: grid;
  grid-template-columns: 110px 1fr;
  gap: 6px 12px;
  margin: 0 0 12px;
}
dt {
  font-weight: 700;
}
dd {
  margin: 0;
  min-width: 0;
  overflow-wrap: anywhere;
}
</style>
