<script setup lang="ts">
// The tabs of users and groups.
import { useLocalUsers } from '../../app/localUsers'

const local = useLocalUsers()
</script>

<template>
  <v-tabs class="beside" aria-label="Users and groups">
    <v-tab to="/users">Users</v-tab>
    <v-tab to="/groups">Groups</v-tab>
    <v-tab v-if="local" to="/invitations">Invitations</v-tab>
    <v-tab to="/marked-users">Marked</v-tab>
    <v-tab to="/erased-users">Erased</v-tab>
  </v-tabs>
</template>

<style scoped>
.beside {
  margin-bottom: 14px;
}
</style>
