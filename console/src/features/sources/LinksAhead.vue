<script setup lang="ts">
// Links that an operator makes ahead of the first sign-in or import: which user a subject belongs to.
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { answered, api } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useMay } from '../../app/session'
import EmptyState from '../../components/EmptyState.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import FormDialog from '../../components/FormDialog.vue'
import PagedTable from '../../components/PagedTable.vue'
import TimeLabel from '../../components/TimeLabel.vue'
import UserSelect from '../../components/UserSelect.vue'

type Kind = 'sign_in' | 'import'
const props = defineProps<{ source: string; kinds: Kind[] }>()
const may = useMay()
const version = ref(0)
const fetch = (after: string | undefined, count: number) =>
  answered(
    api.GET('/api/v1/sources/{key}/links', {
      params: { path: { key: props.source }, query: { after, count } },
    }),
  )
/** A trace leads here with its subject. */
const given = useRoute().query.subject
const subject = ref(typeof given === 'string' ? given : '')
const adding = ref(Boolean(subject.value))
const kind = ref<Kind>(props.kinds[0] ?? 'sign_in')
const user = ref<string | null>(null)
const titles: Record<Kind, string> = { sign_in: 'Sign-in', import: 'Import' }
const choices = computed(() => props.kinds.map((value) => ({ title: titles[value], value })))
const { wrong, busy, attempt } = useAttempts()
async function add(): Promise<void> {
  const body = { connection_type: kind.value, subject: subject.value, user: user.value ?? '' }
  const path = { key: props.source }
  if (await attempt(() => answered(api.POST('/api/v1/sources/{key}/links', { params: { path }, body })))) {
    adding.value = false
    subject.value = ''
    user.value = null
    version.value += 1
  }
}
const remove = (id: string) =>
  attempt(async () => {
    const path = { key: props.source, link_id: id }
    await answered(api.DELETE('/api/v1/sources/{key}/links/{link_id}', { params: { path } }))
    version.value += 1
  })
</script>

<template>
  <section class="panel ahead" aria-labelledby="ahead">
    <div class="row">
      <h2 id="ahead" class="grow">Links ahead of the first record</h2>
      <v-btn v-if="may('sources.change')" variant="outlined" size="small" @click="adding = true"
        >Add link</v-btn
      >
    </div>
    <ErrorMessage :wrong="adding ? null : wrong" />
    <PagedTable
      name="links-ahead"
      caption="Links ahead of the first record"
      :columns="['Subject', 'Connection type', 'User', 'Created', 'By', '']"
      :fetch="fetch"
      :about="version"
    >
      <template #row="{ item }">
        <td class="mono">{{ item.subject }}</td>
        <td>{{ titles[item.connection_type as Kind] }}</td>
        <td>
          <router-link v-if="item.user" :to="`/users/${item.user.id}`">{{
            item.user.display_name
          }}</router-link>
        </td>
        <td><TimeLabel :at="item.created_at" /></td>
        <td>{{ item.created_by }}</td>
        <td>
          <v-btn
            v-if="may('sources.change')"
            size="small"
            variant="text"
            :aria-label="`Remove: link of ${item.subject}`"
            @click="remove(item.id)"
            >Remove</v-btn
          >
        </td>
      </template>
      <template #empty>
        <EmptyState title="No links wait">
          If you know the subject of a user at the provider, link the user before the first sign-in.
        </EmptyState>
      </template>
    </PagedTable>
    <FormDialog v-model="adding" title="Link a user ahead" act="Link" :wrong="wrong" :busy="busy" @done="add">
      <v-select v-if="kinds.length > 1" v-model="kind" :items="choices" label="Connection type" />
      <v-text-field
        v-model="subject"
        label="Subject"
        :hint="
          kind === 'import'
            ? 'The ID of the user in the source'
            : 'The subject that a trace of a sign-in shows'
        "
        persistent-hint
      />
      <UserSelect v-model="user" label="User" />
    </FormDialog>
  </section>
</template>

<style scoped>
.ahead {
  margin-top: 12px;
}
</style>
