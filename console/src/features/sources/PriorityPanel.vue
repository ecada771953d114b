<script setup lang="ts">
// Whose word counts, where several sources say something of one person; what another order would do is looked at first.
import { useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import type { Sure } from '../../app/assignments'
import { useMay } from '../../app/session'
import PreviewDialog from '../../components/PreviewDialog.vue'

const props = defineProps<{ source: Schemas['Source'] }>()
const queries = useQueryClient()
const may = useMay()
const path = { key: props.source.key }
const asking = ref(false)
const place = ref(0)
const veto = ref(false)
const updates = ref(true)
watch(asking, (now) => {
  if (now) [place.value, veto.value, updates.value] = [props.source.precedence, props.source.veto, props.source.updates]
})
const wish = computed(() => ({ precedence: Number(place.value), veto: veto.value, updates: updates.value }))
const look = () => answered(api.POST('/api/v1/sources/{key}/priority/preview', { params: { path }, body: wish.value }))
const carryOut = ({ confirm, expect }: Sure) =>
  answered(api.PUT('/api/v1/sources/{key}/priority', { params: { path }, body: { ...wish.value, confirm, expect } }))
</script>

<template>
  <section class="panel" aria-labelledby="word">
    <h2 id="word">Whose word counts?</h2>
    <p>
      Where several sources say something of one person, the one with the lowest place is heard first: this one has
      place <b>{{ source.precedence }}</b>.
      {{
        source.updates
          ? 'It also says something of people whom another source knows.'
          : 'It says nothing of people whom another source knows.'
      }}
      {{
        source.veto
          ? 'Whoever is inactive in it is inactive here, whatever others say.'
          : 'Whoever is inactive in it may be active by what another source says.'
      }}
      It alone says who is in its groups.
    </p>
    <v-btn v-if="may('sources.change')" variant="outlined" @click="asking = true">Change whose word counts</v-btn>
    <PreviewDialog
      v-model="asking"
      title="Whose word counts?"
      act="Count like this"
      :about="wish"
      :look="look"
      :carry-out="carryOut"
      @done="queries.invalidateQueries()"
    >
      <v-text-field v-model="place" type="number" label="Place (the lowest is heard first)" />
      <v-switch
        v-model="updates"
        label="It says something of people whom another source knows"
        color="primary"
        hide-details
      />
      <v-switch v-model="veto" label="Its inactive counts whatever others say" color="primary" hide-details />
    </PreviewDialog>
  </section>
</template>
