<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api } from '../../api/client'
import { what } from '../../app/assignments'
import { useMay } from '../../app/session'
import EmptyState from '../../components/EmptyState.vue'
import LocalGroupPanel from './LocalGroupPanel.vue'
import PagedTable from '../../components/PagedTable.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import StatusLabel from '../../components/StatusLabel.vue'

const props = defineProps<{ id: string }>()
const may = useMay()
const changed = ref(0)
const leaving = ref<{ person?: string; group?: string; name: string } | null>(null)
const about = computed(() => ({ id: props.id, changed: changed.value }))
const changeable = computed(() => Boolean(group.data.value?.local && may('groups.change')))
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
            <template v-if="group.data.value.local">A group of no source, kept here</template>
            <template v-else>
              A group of
              <router-link v-if="group.data.value.source" :to="`/sources/${group.data.value.source.key}`">{{
                group.data.value.source.label
              }}</router-link>
            </template>
            · <span class="mono">{{ group.data.value.external_id || group.data.value.id }}</span>
          </p>
        </div>
        <LocalGroupPanel v-if="changeable" v-model:leaving="leaving" :group="group.data.value" @changed="changed++" />
      </div>
      <section class="panel" aria-labelledby="gives">
        <h2 id="gives">Roles that it gives</h2>
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
            <EmptyState title="It gives nothing">
              Map it to a role on an application's page, if being in it should give something.
            </EmptyState>
          </template>
        </PagedTable>
      </section>
      <section class="panel" aria-labelledby="members">
        <h2 id="members">Members ({{ group.data.value.members.toLocaleString('en') }})</h2>
        <p v-if="group.data.value.inner.length" class="nested">
          With the groups in it {{ group.data.value.within.toLocaleString('en') }} people:
          <span v-for="each in group.data.value.inner" :key="each.id" class="inner">
            <router-link :to="`/groups/${each.id}`">{{ each.name }}</router-link>
            <span class="quiet">&nbsp;of {{ each.source?.label }}</span>
            <v-btn
              v-if="changeable"
              size="x-small"
              variant="text"
              :aria-label="`Take out ${each.name}`"
              @click="leaving = { group: each.id, name: each.name }"
              >Take out</v-btn
            >
          </span>
        </p>
        <p v-if="group.data.value.around.length" class="nested">
          It is in
          <span v-for="each in group.data.value.around" :key="each.id" class="inner">
            <router-link :to="`/groups/${each.id}`">{{ each.name }}</router-link>
            <span class="quiet">&nbsp;of {{ each.source?.label }}</span>
          </span>
          and gives what they give.
        </p>
        <PagedTable
          name="members"
          caption="Members"
          :columns="changeable ? ['Name', 'User name', 'State', ''] : ['Name', 'User name', 'State']"
          :fetch="members"
          :about="about"
        >
          <template #row="{ item }">
            <td>
              <router-link :to="`/users/${item.id}`">{{ item.display_name }}</router-link>
            </td>
            <td class="mono">{{ item.user_name }}</td>
            <td><StatusLabel :state="item.state" /></td>
            <td v-if="changeable">
              <v-btn
                size="small"
                variant="text"
                :aria-label="`Take out ${item.display_name}`"
                @click="leaving = { person: item.id, name: item.display_name }"
                >Take out</v-btn
              >
            </td>
          </template>
          <template #empty>
            <EmptyState title="No members">
              {{
                group.data.value?.local
                  ? 'Put people or groups of any source into it.'
                  : 'The source lists nobody in it.'
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
