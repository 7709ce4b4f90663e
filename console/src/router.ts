import { createRouter, createWebHistory } from 'vue-router'
import AskPage from './pages/AskPage.vue'
import HelpPage from './pages/HelpPage.vue'

/** The pages of the console. */
export const router = createRouter({
  history: createWebHistory('/console/'),
  routes: [
    { path: '/', name: 'ask', component: AskPage },
    { path: '/help/:page?', name: 'help', component: HelpPage },
    { path: '/:rest(.*)', redirect: '/' },
  ],
})
