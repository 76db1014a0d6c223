import './style.css'

import { PiniaColada } from '@pinia/colada'
import { createPinia } from 'pinia'
import { createApp } from 'vue'

import App from './App.vue'
import { router } from './router'
import { followTheme } from '@/frame/theme'
import { watchButtons } from '@/service/busy'

followTheme()
watchButtons()
createApp(App).use(createPinia()).use(PiniaColada, {}).use(router).mount('#app')
