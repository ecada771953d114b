<script setup lang="ts">
// Held removals of an application, to approve or discard.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useSession } from '../../app/session'
import FormDialog from '../../components/FormDialog.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ application?: string }>()
const { session } = useSession()
const removal_limit = useQuery({
  queryKey: ['removal_limit'],
  // It concerns all applications, so application owners do not see it.
  enabled: computed(() => session.value?.applications === null),
  queryFn: () => answered(api.GET('/api/v1/holds')),
  refetchInterval: 4000,
})
const items = computed(
  () =>
    removal_limit.data.value?.items.filter(
      (each) => !props.application || each.application.key === props.application,
    ) ?? [],
)
const opened = ref<Schemas['HoldItem'] | null>(null)
const open = ref(false)
const dropping = ref(false)
const typed = ref('')
const mayRelease = computed(() => session.value?.permissions.includes('holds.approve'))
const { wrong, busy, attempt } = useAttempts()
function ask(item: Schemas['HoldItem'], drop: boolean): void {
  opened.value = item
  dropping.value = drop
  typed.value = ''
  wrong.value = null
  open.value = true
}
async function act(): Promise<void> {
  const params = { path: { key: opened.value?.application.key ?? '' } }
  const body = { confirm: typed.value }
  const done = await attempt(() =>
    dropping.value
      ? answered(api.POST('/api/v1/holds/{key}/discard', { params, body }))
      : answered(api.POST('/api/v1/holds/{key}/approve', { params, body })),
  )
  if (done) open.value = false
}
</script>

<template>
  <section
    v-for="item in items"
    :key="item.application.key"
    class="held"
    :aria-label="`Held: ${item.application.label}`"
  >
    <div class="row top">
      <p class="grow">
        <StatusLabel status="held" />
        <b>{{ item.number.toLocaleString('en') }}</b> {{ item.number === 1 ? 'removal' : 'removals' }} for
        <router-link :to="`/applications/${item.application.key}`">{{ item.application.label }}</router-link>
        since <TimeLabel :at="item.since" />. {{ item.message }}
      </p>
      <template v-if="mayRelease">
        <v-btn size="small" variant="outlined" @click="ask(item, false)">Approve</v-btn>
        <v-btn size="small" variant="text" @click="ask(item, true)">Discard</v-btn>
      </template>
    </div>
  </section>
  <FormDialog
    v-model="open"
    :title="
      opened
        ? `${dropping ? 'Discard' : 'Approve'} ${opened.number} removals for ${opened.application.label}?`
        : ''
    "
    :act="dropping ? 'Discard' : 'Approve'"
    :wrong="wrong"
    :busy="busy"
    serious
    wide
    @done="act"
  >
    <p v-if="dropping">These accounts stay unchanged in the application until the next change to the user.</p>
    <p v-else>Approving removes these accounts or roles in the application:</p>
    <div class="scroll list" role="group" aria-label="Held removals" tabindex="0">
      <table class="plain">
        <thead>
          <tr>
            <th scope="col">User</th>
            <th scope="col">Desired state</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="each in opened?.users" :key="each.user.id">
            <td>
              <router-link :to="`/users/${each.user.id}`">{{ each.user.display_name }}</router-link>
            </td>
            <td>{{ each.desired_state }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <p v-if="opened && opened.number > opened.users.length">
      and {{ (opened.number - opened.users.length).toLocaleString('en') }} more:
      <router-link :to="`/provisioning/tasks?status=held&application=${opened.application.key}`"
        >all of them</router-link
      >
    </p>
    <v-text-field
      v-model="typed"
      :label="`Type ${opened?.application.label} to confirm`"
      autocomplete="off"
    />
  </FormDialog>
</template>

<style scoped>
.held {
  padding: 8px 14px;
  margin-bottom: 10px;
  border-left: 4px solid rgb(var(--v-theme-look));
  border-radius: 4px;
  background: rgba(var(--v-theme-look), 0.08);
}
.top {
  align-items: center;
}
.grow {
  flex: 1;
  margin: 0;
}
.list {
  max-height: 300px;
  overflow-y: auto;
}
</style>
