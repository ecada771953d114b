<script setup lang="ts">
// The second factor of an operator or a user: authenticator app, passkeys and recovery codes.
import { ref } from 'vue'
import type { Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { createPasskey, passkeysUnavailable } from '../../app/passkeys'
import CopyValue from '../../components/CopyValue.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import FormDialog from '../../components/FormDialog.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import FactorProof from './FactorProof.vue'
import RecoveryCodes from './RecoveryCodes.vue'

/** The calls of the owner: of the operator, or of the signed-in user. */
export interface FactorCalls {
  begin: () => Promise<Schemas['NewSecondFactor']>
  confirm: (code: string) => Promise<Schemas['RecoveryCodes']>
  disable: (proof: Schemas['ProofRequest']) => Promise<unknown>
  beginPasskey: () => Promise<Schemas['PasskeyChallenge']>
  addPasskey: (body: Schemas['AddPasskeyRequest']) => Promise<Schemas['RecoveryCodes']>
  askPasskey: () => Promise<Schemas['PasskeyOffer']>
  deletePasskey: (id: string, proof: Schemas['ProofRequest']) => Promise<unknown>
  renewCodes: (proof: Schemas['ProofRequest']) => Promise<Schemas['RecoveryCodes']>
}
const props = defineProps<{ factor: Schemas['SecondFactor']; calls: FactorCalls }>()
const emit = defineEmits<{ on: [] }>()
const { wrong, attempt } = useAttempts()
const begun = ref<Schemas['NewSecondFactor'] | null>(null)
const codes = ref<string[]>([])
const code = ref('')
function enabled(made: Schemas['RecoveryCodes']): void {
  codes.value = made.recovery_codes
  emit('on')
}
const begin = () => attempt(async () => (begun.value = await props.calls.begin()))
const confirm = () =>
  attempt(async () => {
    enabled(await props.calls.confirm(code.value))
    begun.value = null
    code.value = ''
  })

const naming = ref(false)
const label = ref('')
const { wrong: refused, busy, attempt: attemptAdd } = useAttempts()
const unavailable = () => passkeysUnavailable(props.factor.passkeys_at)
function ask(): void {
  label.value = ''
  refused.value = null
  naming.value = true
}
async function add(): Promise<void> {
  const done = await attemptAdd(async () => {
    const response = await createPasskey(await props.calls.beginPasskey())
    enabled(await props.calls.addPasskey({ ...response, label: label.value }))
  })
  if (done) naming.value = false
}

/** What needs a proof: it is done with a code or a passkey. */
interface Change {
  title: string
  act: string
  send: (proof: Schemas['ProofRequest']) => Promise<unknown>
}
const change = ref<Change | null>(null)
const disableApp = () =>
  (change.value = { title: 'Disable the authenticator app', act: 'Disable', send: props.calls.disable })
const deletePasskey = (each: Schemas['Passkey']) =>
  (change.value = {
    title: `Delete passkey '${each.label}'`,
    act: 'Delete',
    send: (proof) => props.calls.deletePasskey(each.id, proof),
  })
const renew = () =>
  (change.value = {
    title: 'Create new recovery codes',
    act: 'Create',
    send: async (proof) => (codes.value = (await props.calls.renewCodes(proof)).recovery_codes),
  })
</script>

<template>
  <section class="panel" aria-labelledby="factor">
    <h2 id="factor">Second factor</h2>
    <ErrorMessage :wrong="wrong" />
    <RecoveryCodes v-if="codes.length" :codes="codes" @stored="codes = []" />
    <p v-if="!factor.on" class="quiet">
      {{
        factor.required
          ? 'A second factor is required. Set up an app or a passkey.'
          : 'Not set up. Your password alone is enough to sign in as you.'
      }}
    </p>
    <p v-else-if="factor.required" class="quiet">A second factor is required for all operators.</p>
    <template v-if="begun">
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
        <v-btn variant="text" @click="begun = null">Cancel</v-btn>
      </form>
    </template>
    <ul v-else class="factors">
      <li>
        <div class="grow">
          <strong>Authenticator app</strong>
          <div v-if="factor.app"><StatusLabel status="enabled" /> Since <TimeLabel :at="factor.since" /></div>
          <div v-else class="quiet">An app on your phone shows a new code every 30 seconds.</div>
        </div>
        <v-btn v-if="factor.app" variant="outlined" @click="disableApp">Disable</v-btn>
        <v-btn v-else variant="outlined" @click="begin"
          >Set up<span class="visually-hidden"> app</span></v-btn
        >
      </li>
      <li v-for="each in factor.passkeys" :key="each.id">
        <div class="grow">
          <strong>Passkey: {{ each.label }}</strong>
          <div class="quiet">
            Added <TimeLabel :at="each.created_at" /><template v-if="each.last_used_at"
              >, last used <TimeLabel :at="each.last_used_at"
            /></template>
          </div>
        </div>
        <v-btn variant="outlined" :aria-label="`Delete passkey ${each.label}`" @click="deletePasskey(each)"
          >Delete</v-btn
        >
      </li>
      <li>
        <div class="grow">
          <strong>New passkey</strong>
          <div class="quiet">
            {{ unavailable() || 'A security key, or the fingerprint or PIN of your device.' }}
          </div>
        </div>
        <v-btn variant="outlined" :disabled="Boolean(unavailable())" @click="ask">Add passkey</v-btn>
      </li>
      <li v-if="factor.on">
        <div class="grow">
          <strong>Recovery codes</strong>
          <div class="quiet">{{ factor.recovery_left }} left. Each code signs you in once.</div>
        </div>
        <v-btn variant="outlined" @click="renew">Create new codes</v-btn>
      </li>
    </ul>
    <FormDialog v-model="naming" title="Add passkey" act="Add" :wrong="refused" :busy="busy" @done="add">
      <v-text-field
        v-model="label"
        label="Name of the passkey"
        maxlength="60"
        hint="Such as the name of the device"
        persistent-hint
      />
    </FormDialog>
    <v-dialog
      :model-value="change !== null"
      max-width="520"
      :aria-label="change?.title"
      @update:model-value="change = null"
    >
      <v-card v-if="change" class="ask">
        <h2>{{ change.title }}</h2>
        <FactorProof
          :act="change.act"
          :passkey="factor.passkeys.length > 0 && !unavailable()"
          :ask="calls.askPasskey"
          :send="change.send"
          @done="change = null"
        >
          <v-btn variant="text" @click="change = null">Cancel</v-btn>
        </FactorProof>
      </v-card>
    </v-dialog>
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
.factors {
  list-style: none;
  padding: 0;
  margin: 0;
}
.factors li {
  display: flex;
  gap: 14px;
  align-items: center;
  padding: 10px 0;
  border-top: 1px solid rgb(var(--v-theme-line));
}
.grow {
  flex: 1;
  min-width: 0;
}
.ask {
  padding: 20px 22px;
}
.ask h2 {
  font-size: 19px;
  margin: 0 0 14px;
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
