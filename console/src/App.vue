<script setup lang="ts">
import NavigationBand from './app/NavigationBand.vue'
import { useSession } from './app/session'

const { signedIn } = useSession()
</script>

<template>
  <v-app>
    <a class="skip" href="#content">Skip to main content</a>
    <NavigationBand v-if="signedIn && !$route.meta.open" />
    <v-main id="content" tabindex="-1">
      <router-view :key="$route.path.split('/').slice(0, 3).join('/')" />
    </v-main>
  </v-app>
</template>

<style>
.skip {
  position: absolute;
  left: -999px;
  top: 0;
  z-index: 3000;
  padding: 8px 14px;
  background: rgb(var(--v-theme-surface));
}
.skip:focus {
  left: 8px;
  top: 8px;
}
#content {
  outline: none;
}
</style>
