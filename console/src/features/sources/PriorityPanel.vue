<script setup lang="ts">
// The priority of a source where several sources have records of one user, and who manages the members of its
// groups, with a preview.
import { useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import type { Confirmation } from '../../app/assignments'
import { membersFrom, type MembersFrom } from '../../app/authority'
import { useMay } from '../../app/session'
import MembersFromSelect from '../../components/MembersFromSelect.vue'
import PreviewDialog from '../../components/PreviewDialog.vue'

const props = defineProps<{ source: Schemas['Source'] }>()
const queries = useQueryClient()
const may = useMay()
const path = { key: props.source.key }
const asking = ref(false)
const place = ref(0)
const deactivation_wins = ref(false)
const updates = ref(true)
const members_from = ref<MembersFrom>('all')
watch(asking, (now) => {
  if (now)
    [place.value, deactivation_wins.value, updates.value, members_from.value] = [
      props.source.priority,
      props.source.deactivation_wins,
      props.source.updates,
      props.source.members_from,
    ]
})
const wish = computed(() => ({
  priority: Number(place.value),
  deactivation_wins: deactivation_wins.value,
  updates: updates.value,
  members_from: members_from.value,
}))
const look = () =>
  answered(api.POST('/api/v1/sources/{key}/priority/preview', { params: { path }, body: wish.value }))
const carryOut = ({ confirm, expect }: Confirmation) =>
  answered(
    api.PUT('/api/v1/sources/{key}/priority', { params: { path }, body: { ...wish.value, confirm, expect } }),
  )
</script>

<template>
  <section class="panel" aria-labelledby="word">
    <h2 id="word">Priority</h2>
    <p>
      When several sources report one user, the source with the lowest number wins. This source has priority
      <b>{{ source.priority }}</b>.
      {{ source.updates ? 'It also updates users of other sources.' : 'It updates only its own users.' }}
      {{
        source.deactivation_wins
          ? 'A user who is inactive in this source is always inactive in Dravo.'
          : 'A user who is inactive in this source can stay active through another source.'
      }}
    </p>
    <p>
      Members of its groups are managed by: <b>{{ membersFrom[source.members_from] }}</b>. A group can differ,
      on its page.
    </p>
    <v-btn v-if="may('sources.change')" variant="outlined" @click="asking = true">Edit priority</v-btn>
    <PreviewDialog
      v-model="asking"
      title="Priority"
      act="Save"
      :about="wish"
      :look="look"
      :carry-out="carryOut"
      @done="queries.invalidateQueries()"
    >
      <v-text-field v-model="place" type="number" label="Priority (1 is highest)" />
      <v-switch v-model="updates" label="Update users of other sources" color="primary" hide-details />
      <v-switch v-model="deactivation_wins" label="Deactivation wins" color="primary" hide-details />
      <MembersFromSelect v-model="members_from" label="Group members managed by" />
    </PreviewDialog>
  </section>
</template>
