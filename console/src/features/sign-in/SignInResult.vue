<script setup lang="ts">
// The result of a sign-in: steps, user attributes, groups and access.
import type { Schemas } from '../../api/client'
import { told } from '../../app/attributeValues'
import CheckSteps from '../../components/CheckSteps.vue'
import StatusLabel from '../../components/StatusLabel.vue'

defineProps<{ planned: Schemas['PlannedSignIn'] | Schemas['SignInTrace'] }>()
</script>

<template>
  <div class="planned">
    <p>
      <StatusLabel :status="planned.outcome" /> <b>{{ planned.message }}</b>
      <span v-if="planned.hint"> {{ planned.hint }}</span>
    </p>
    <CheckSteps :check="planned" />
    <div class="two">
      <section v-if="Object.keys(planned.made).length">
        <h3>User attributes</h3>
        <dl>
          <template v-for="(value, name) in planned.made" :key="name">
            <dt>{{ String(name).split(':').pop() }}</dt>
            <dd>{{ told(value) }}</dd>
          </template>
        </dl>
      </section>
      <section v-if="planned.groups.length">
        <h3>Groups</h3>
        <ul class="bare">
          <li v-for="each in planned.groups" :key="each.claimed">
            <StatusLabel :status="each.outcome" />
            <span>
              {{ each.group ? each.group.name : each.claimed }}
              <span v-if="each.group && each.group.name !== each.claimed" class="quiet mono"
                >({{ each.claimed }})</span
              >
              <span class="quiet">
                {{
                  each.gives.length
                    ? each.gives.map((one) => `${one.application}: ${one.role}`).join(', ')
                    : 'assigns no role'
                }}</span
              >
            </span>
          </li>
        </ul>
      </section>
      <section v-if="planned.access.length">
        <h3>Access</h3>
        <ul class="bare">
          <li v-for="(each, number) in planned.access" :key="number">
            <StatusLabel :status="each.what" />
            <span>
              <router-link :to="`/applications/${each.application.key}/mapping`">{{
                each.application.label
              }}</router-link>: {{ each.role }} <span class="quiet">{{ each.reasons.join('; ') }}</span>
            </span>
          </li>
        </ul>
      </section>
    </div>
  </div>
</template>

<style scoped>
h3 {
  font-size: 15px;
  margin: 10px 0 4px;
}
dl {
  display: grid;
  grid-template-columns: 110px 1fr;
  gap: 2px 10px;
  margin: 0;
}
dt {
  font-weight: 700;
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
.bare {
  list-style: none;
  margin: 0;
  padding: 0;
}
.bare li {
  display: grid;
  grid-template-columns: 90px 1fr;
  gap: 8px;
  padding: 2px 0;
}
</style>
