<script setup lang="ts">
// Sources, and whether each allows the user to sign in.
import type { Schemas } from '../../api/client'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

defineProps<{ ways: Schemas['SignInOption'][] }>()
</script>

<template>
  <table class="plain">
    <thead>
      <tr>
        <th scope="col">Source</th>
        <th scope="col">Allowed</th>
        <th scope="col">Reason</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="each in ways" :key="each.source.key">
        <td>
          <router-link :to="`/sources/${each.source.key}/sign-in`">{{ each.source.label }}</router-link>
          <div class="quiet">{{ each.protocol }}</div>
        </td>
        <td><StatusLabel :status="each.opens ? 'opens' : 'closed'" /></td>
        <td>
          <template v-if="each.opens">
            <template v-if="each.bound_at">Linked since <TimeLabel :at="each.bound_at" />.</template>
            <template v-else>The first sign-in links the user.</template>
          </template>
          <template v-else>
            <div>{{ each.reason }}</div>
            <div>
              “{{ each.message_to_user }}{{ each.support_contact ? ` ${each.support_contact}` : '' }}”
            </div>
            <div class="quiet">{{ each.hint }}</div>
          </template>
          <div v-if="each.enabled_from" class="quiet">
            Enabled for everyone from <TimeLabel :at="each.enabled_from" />
          </div>
        </td>
      </tr>
    </tbody>
  </table>
</template>
