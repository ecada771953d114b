<script setup lang="ts">
// People and the groups beside them.
</script>

<template>
  <v-tabs class="beside" aria-label="People and groups">
    <v-tab to="/users">People</v-tab>
    <v-tab to="/groups">Groups</v-tab>
  </v-tabs>
</template>

<style scoped>
.beside {
  margin-bottom: 14px;
}
</style>
