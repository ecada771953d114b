<script setup lang="ts">
// Sources by which a person could sign in: whether each opens to them, else why not and what they would read.
import type { Schemas } from '../../api/client'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

defineProps<{ ways: Schemas['WayIn'][] }>()
</script>

<template>
  <table class="plain">
    <thead>
      <tr>
        <th scope="col">By</th>
        <th scope="col">Opens</th>
        <th scope="col">Why</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="each in ways" :key="each.source.key">
        <td>
          <router-link :to="`/sources/${each.source.key}/sign-in`">{{ each.source.label }}</router-link>
          <div class="quiet">{{ each.protocol }}</div>
        </td>
        <td><StatusLabel :state="each.opens ? 'opens' : 'closed'" /></td>
        <td>
          <template v-if="each.opens">
            <template v-if="each.bound_at">They are bound to it since <TimeLabel :at="each.bound_at" />.</template>
            <template v-else>The first time binds them to it.</template>
          </template>
          <template v-else>
            <div>{{ each.reason }}</div>
            <div>“{{ each.told }}{{ each.support_contact ? ` ${each.support_contact}` : '' }}”</div>
            <div class="quiet">{{ each.hint }}</div>
          </template>
          <div v-if="each.enabled_from" class="quiet">For everybody from <TimeLabel :at="each.enabled_from" /></div>
        </td>
      </tr>
    </tbody>
  </table>
</template>
