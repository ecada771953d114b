<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api } from '../../api/client'
import { what } from '../../app/assignments'
import { useMay } from '../../app/session'
import EmptyState from '../../components/EmptyState.vue'
import GroupAuthority from './GroupAuthority.vue'
import LocalGroupPanel from './LocalGroupPanel.vue'
import PagedTable from '../../components/PagedTable.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import StatusLabel from '../../components/StatusLabel.vue'

const props = defineProps<{ id: string }>()
const may = useMay()
const changed = ref(0)
const leaving = ref<{ user?: string; group?: string; name: string } | null>(null)
const about = computed(() => ({ id: props.id, changed: changed.value }))
const changeable = computed(() => Boolean(group.data.value?.members_from === 'dravo' && may('groups.change')))
const path = { id: props.id }
const group = useQuery({
  queryKey: ['groups', props.id],
  queryFn: () => answered(api.GET('/api/v1/groups/{id}', { params: { path } })),
  refetchInterval: 8000,
})
const members = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/groups/{id}/members', { params: { path, query: { after, count } } }))
const assignments = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/assignments', { params: { query: { after, count, group: props.id } } }))
</script>

<template>
  <div class="page">
    <ErrorMessage :wrong="group.error.value" />
    <template v-if="group.data.value">
      <div class="head">
        <div class="grow">
          <h1>{{ group.data.value.name }}</h1>
          <p class="lead">
            <template v-if="group.data.value.local">Local group</template>
            <template v-else>
              Group of
              <router-link v-if="group.data.value.source" :to="`/sources/${group.data.value.source.key}`">{{
                group.data.value.source.label
              }}</router-link>
            </template>
            · <span class="mono">{{ group.data.value.external_id || group.data.value.id }}</span>
          </p>
          <p v-if="group.data.value.description">{{ group.data.value.description }}</p>
        </div>
        <LocalGroupPanel
          v-if="changeable"
          v-model:leaving="leaving"
          :group="group.data.value"
          @changed="changed++"
        />
      </div>
      <section class="panel" aria-labelledby="gives">
        <h2 id="gives">Assigned roles</h2>
        <PagedTable
          name="group-assignments"
          caption="Assignments"
          :columns="['Application', 'Role', 'By']"
          :fetch="assignments"
          :about="id"
        >
          <template #row="{ item }">
            <td>
              <router-link :to="`/applications/${item.application.key}/mapping`">{{
                item.application.label
              }}</router-link>
            </td>
            <td>{{ what(item) }}</td>
            <td>{{ item.created_by }}</td>
          </template>
          <template #empty>
            <EmptyState title="No assigned roles">
              Map the group to a role on an application's page.
            </EmptyState>
          </template>
        </PagedTable>
      </section>
      <section class="panel" aria-labelledby="members">
        <h2 id="members">Members ({{ group.data.value.members.toLocaleString('en') }})</h2>
        <GroupAuthority
          v-if="!group.data.value.local"
          :group="group.data.value"
          @changed="(changed++, group.refetch())"
        />
        <p v-if="group.data.value.inner.length" class="nested">
          {{ group.data.value.users_with_nested_groups.toLocaleString('en') }} users including nested groups:
          <span v-for="each in group.data.value.inner" :key="each.id" class="inner">
            <router-link :to="`/groups/${each.id}`">{{ each.name }}</router-link>
            <span class="quiet">&nbsp;of {{ each.source?.label }}</span>
            <v-btn
              v-if="changeable && group.data.value.local"
              size="x-small"
              variant="text"
              :aria-label="`Remove ${each.name}`"
              @click="leaving = { group: each.id, name: each.name }"
              >Remove</v-btn
            >
          </span>
        </p>
        <p v-if="group.data.value.around.length" class="nested">
          Member of
          <span v-for="each in group.data.value.around" :key="each.id" class="inner">
            <router-link :to="`/groups/${each.id}`">{{ each.name }}</router-link>
            <span class="quiet">&nbsp;of {{ each.source?.label }}</span>
          </span>
          and gives their roles.
        </p>
        <PagedTable
          name="members"
          caption="Members"
          :columns="changeable ? ['Name', 'User name', 'Status', ''] : ['Name', 'User name', 'Status']"
          :fetch="members"
          :about="about"
        >
          <template #row="{ item }">
            <td>
              <router-link :to="`/users/${item.id}`">{{ item.display_name }}</router-link>
            </td>
            <td class="mono">{{ item.user_name }}</td>
            <td><StatusLabel :status="item.status" /></td>
            <td v-if="changeable">
              <v-btn
                size="small"
                variant="text"
                :aria-label="`Remove ${item.display_name}`"
                @click="leaving = { user: item.id, name: item.display_name }"
                >Remove</v-btn
              >
            </td>
          </template>
          <template #empty>
            <EmptyState title="No members">
              {{
                group.data.value?.local
                  ? 'Add users or groups of any source.'
                  : group.data.value?.members_from === 'dravo'
                    ? 'Add users of any source.'
                    : 'The source reports no members.'
              }}
            </EmptyState>
          </template>
        </PagedTable>
      </section>
    </template>
  </div>
</template>

<style scoped>
.nested {
  margin: 0 0 8px;
}
.inner + .inner::before {
  content: ' · ';
}
</style>
