<script setup lang="ts">
// The result of a source policy for the stored users of a source.
import { computed } from 'vue'
import type { Schemas } from '../../api/client'
import { told } from '../../app/attributeValues'
import StatusLabel from '../../components/StatusLabel.vue'

const props = defineProps<{ tried: Schemas['PolicyPreview'] }>()
const numbers = computed(() =>
  (
    [
      [props.tried.accepted, 'stay unchanged'],
      [props.tried.joins, 'are created or linked'],
      [props.tried.changed, 'change'],
      [props.tried.leaves, 'leave'],
      [props.tried.refused, 'are refused'],
      [props.tried.outside, 'stay outside'],
      [props.tried.waits, 'wait'],
    ] as const
  )
    .filter(([number]) => number)
    .map(([number, what]) => `${number.toLocaleString('en')} ${what}`)
    .join(', '),
)
const named = (accepted: boolean) =>
  props.tried.groups
    .filter((each) => each.accepted === accepted)
    .map((each) => each.name)
    .join(', ')
const statuses: Record<string, string> = { leaves: 'left', joins: 'joined', waits: 'waiting' }
</script>

<template>
  <p role="status">
    Of {{ tried.looked_at.toLocaleString('en') }} users of this source, {{ numbers || 'none is concerned' }}.
  </p>
  <p v-if="tried.conflicts">
    Of {{ tried.conflicts.toLocaleString('en') }} open conflicts, the rule would link
    {{ tried.linked.toLocaleString('en') }}. Open conflicts stay until you decide them.
  </p>
  <p v-if="tried.member_of.length">Users must be members of one of: {{ tried.member_of.join(', ') }}.</p>
  <p v-if="tried.groups.length">
    Of {{ tried.groups.length.toLocaleString('en') }} groups of this source
    <template v-if="tried.groups.every((each) => each.accepted)">all are accepted.</template>
    <template v-else>
      these are accepted: <b>{{ named(true) || 'none' }}</b>; these are ignored: {{ named(false) }}.
    </template>
  </p>
  <p v-if="tried.made_groups.length">
    Groups from user attributes:
    {{ tried.made_groups.map((each) => `${each.name} (${each.users.toLocaleString('en')})`).join(', ') }}.
  </p>
  <div v-if="tried.items.length" class="scroll" role="group" aria-label="Results" tabindex="0">
    <table class="plain">
      <caption class="visually-hidden">
        Changed users
      </caption>
      <thead>
        <tr>
          <th scope="col">User</th>
          <th scope="col">Outcome</th>
          <th scope="col">Before and after</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(each, number) in tried.items" :key="number">
          <td>{{ each.name }}</td>
          <td><StatusLabel :status="statuses[each.outcome] ?? each.outcome" /></td>
          <td>
            <div v-for="one in each.changes" :key="one.attribute">
              <b>{{ one.attribute.split(':').pop() }}</b>: {{ told(one.before) }} → {{ told(one.after) }}
            </div>
            {{ each.message }}
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
