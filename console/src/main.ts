import '@fontsource/atkinson-hyperlegible/400.css'
import '@fontsource/atkinson-hyperlegible/700.css'
import '@fontsource/jetbrains-mono/400.css'
import 'vuetify/styles'
import './app/dravo.css'
import { VueQueryPlugin } from '@tanstack/vue-query'
import { createApp } from 'vue'
import App from './App.vue'
import { ApiProblem, whenSignedOut } from './api/client'
import { router } from './app/router'
import { forget } from './app/session'
import { vuetify } from './app/theme'

whenSignedOut(() => {
  forget()
  if (router.currentRoute.value.path !== '/sign-in') {
    void router.push({ path: '/sign-in', query: { to: router.currentRoute.value.fullPath } })
  }
})

createApp(App)
  .use(router)
  .use(vuetify)
  .use(VueQueryPlugin, {
    queryClientConfig: {
      defaultOptions: {
        queries: {
          staleTime: 2000,
          retry: (count, wrong) =>
            count < 2 && !(wrong instanceof ApiProblem && wrong.status >= 400 && wrong.status < 500),
        },
      },
    },
  })
  .mount('#app')
