<script setup lang="ts">
// The operator's own sign-in options: links to sources, and recovery codes.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api } from '../../api/client'
import { useAttempts } from '../../app/actions'
import FormDialog from '../../components/FormDialog.vue'
import CopyValue from '../../components/CopyValue.vue'
import OwnPassword from './OwnPassword.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const queries = useQueryClient()
const { wrong, attempt } = useAttempts()
const ways = useQuery({ queryKey: ['own-links'], queryFn: () => answered(api.GET('/api/v1/session/links')) })
const factor = useQuery({
  queryKey: ['second-factor'],
  queryFn: () => answered(api.GET('/api/v1/second-factor')),
})
const left = computed(() => factor.data.value?.recovery_left ?? 0)
const sessions = useQuery({
  queryKey: ['own-sessions'],
  queryFn: () => answered(api.GET('/api/v1/session/others')),
  refetchInterval: 10_000,
})
const elsewhere = computed(() => sessions.data.value?.items.filter((each) => !each.this) ?? [])
const endOthers = () => attempt(() => answered(api.DELETE('/api/v1/session/others')))
const codes = ref<string[]>([])
const code = ref('')
const asking = ref(false)
const renew = () =>
  attempt(async () => {
    const made = await answered(api.POST('/api/v1/recovery-codes', { body: { code: code.value } }))
    codes.value = made.recovery_codes
    asking.value = false
    code.value = ''
    await queries.invalidateQueries()
  })
const unlink = (id: string) =>
  attempt(() => answered(api.DELETE('/api/v1/session/links/{id}', { params: { path: { id } } })))
const only = (on: boolean) =>
  attempt(() => answered(api.PUT('/api/v1/session/links', { body: { only_by_source: on } })))
</script>

<template>
  <section class="panel" aria-labelledby="ways">
    <h2 id="ways">How you sign in</h2>
    <ErrorMessage :wrong="(asking ? null : wrong) ?? ways.error.value" />
    <template v-if="ways.data.value">
      <p v-if="ways.data.value.only_by_source">
        You sign in through a source only; your password is disabled. If the source is not available, enter a
        recovery code instead of the password.
      </p>
      <div v-else class="row middle">
        <span>Password{{ ways.data.value.items.length ? ' and source sign-in' : '' }}.</span>
        <OwnPassword />
      </div>
      <ul v-if="ways.data.value.items.length" class="links">
        <li v-for="each in ways.data.value.items" :key="each.id">
          <div>
            <b>{{ each.source.label }}</b> <StatusLabel :status="each.status" />
            <div class="quiet">
              identifies you as <span class="mono">{{ each.subject }}</span> · linked
              <TimeLabel :at="each.created_at" />
              <template v-if="each.last_used_at !== each.created_at">
                · last sign-in <TimeLabel :at="each.last_used_at" />
              </template>
              <template v-else> · not used yet</template>
            </div>
          </div>
          <v-btn size="small" variant="outlined" @click="unlink(each.id)"
            >Unlink<span class="visually-hidden"> {{ each.source.label }}</span></v-btn
          >
        </li>
      </ul>
      <div v-if="ways.data.value.offered.length" class="row">
        <v-btn
          v-for="each in ways.data.value.offered"
          :key="each.key"
          color="primary"
          variant="outlined"
          :href="each.start"
          >Link to {{ each.label }}</v-btn
        >
      </div>
      <p v-else-if="!ways.data.value.items.length" class="quiet">
        No source signs in operators. A super administrator can allow it on the Sign-in tab of a source.
      </p>
      <div class="row middle below">
        <span>{{ left ? `${left} recovery codes left.` : 'You have no recovery codes.' }}</span>
        <v-btn variant="outlined" @click="((asking = true), (wrong = null))">{{
          left ? 'Create new codes' : 'Create codes'
        }}</v-btn>
        <v-btn v-if="ways.data.value.only_by_source" variant="outlined" @click="only(false)"
          >Enable password sign-in</v-btn
        >
        <v-btn v-else-if="ways.data.value.items.length" variant="outlined" @click="only(true)"
          >Disable password sign-in</v-btn
        >
      </div>
      <div v-if="codes.length" class="codes" role="status">
        <strong>Recovery codes (shown only once). Each code works once. Store them outside Dravo.</strong>
        <CopyValue v-for="each in codes" :key="each" :value="each" name="Recovery code" />
      </div>
    </template>
    <div v-if="elsewhere.length" class="row middle below">
      <span>
        Other sessions:
        <template v-for="(each, at) in elsewhere" :key="at">
          <template v-if="at">; </template>{{ each.source?.label ?? 'password' }}, since
          <TimeLabel :at="each.created_at" />, last used <TimeLabel :at="each.last_seen_at" />
        </template>
      </span>
      <v-btn variant="outlined" @click="endOthers">End other sessions</v-btn>
    </div>
    <FormDialog v-model="asking" title="Create recovery codes" act="Create" :wrong="wrong" @done="renew">
      <p>Your current codes stop working.</p>
      <v-text-field
        v-if="factor.data.value?.on"
        v-model="code"
        label="Code from your app, or a recovery code"
        autocomplete="one-time-code"
      />
    </FormDialog>
  </section>
</template>

<style scoped>
.links {
  list-style: none;
  padding: 0;
  margin: 0 0 10px;
}
.links li {
  display: flex;
  justify-content: space-between;
  align-items: center;
  gap: 16px;
  padding: 8px 0;
  border-bottom: 1px solid rgb(var(--v-theme-line));
}
.middle {
  align-items: center;
}
.below {
  margin-top: 12px;
}
.codes {
  display: grid;
  gap: 2px;
  padding: 12px 14px;
  margin: 10px 0 0;
  border: 1px dashed rgb(var(--v-theme-look));
  border-radius: 6px;
}
</style>
