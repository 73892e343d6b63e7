import { createApp } from 'vue'
import 'element-plus/theme-chalk/dark/css-vars.css'
import App from './App.vue'
import { keepAria } from './composables/aria'
import { router } from './router'
import 'element-plus/es/components/message-box/style/css'
import './theme.css'

const dark = window.matchMedia('(prefers-color-scheme: dark)')
const follow = () => document.documentElement.classList.toggle('dark', dark.matches)
dark.addEventListener('change', follow)
follow()

keepAria(document.body)
createApp(App).use(router).mount('#app')
