import '@fontsource-variable/inter/wght.css'
import '@fontsource-variable/jetbrains-mono/wght.css'
import 'vuetify/styles'
import './style.css'

import { VueQueryPlugin } from '@tanstack/vue-query'
import { createPinia } from 'pinia'
import { createApp } from 'vue'
import { createVuetify } from 'vuetify'
import { aliases, mdi } from 'vuetify/iconsets/mdi-svg'

import { queries } from './api/queries'
import App from './App.vue'
import { router } from './router'
import { themes } from './themes'

createApp(App)
  .use(createPinia())
  .use(VueQueryPlugin, { queryClient: queries })
  .use(router)
  .use(
    createVuetify({
      icons: { defaultSet: 'mdi', aliases, sets: { mdi } },
      theme: { defaultTheme: 'system', themes },
      defaults: {
        VBtn: { variant: 'outlined', rounded: 'sm' },
        VTextField: { variant: 'outlined', density: 'comfortable' },
        VTextarea: { variant: 'outlined', density: 'comfortable' },
        VSelect: { variant: 'outlined', density: 'comfortable' },
      },
    }),
  )
  .mount('#app')
