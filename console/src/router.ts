import { createRouter, createWebHistory } from 'vue-router'
import AskPage from './pages/AskPage.vue'

/** The pages of the console. */
export const router = createRouter({
  history: createWebHistory('/console/'),
  routes: [
    { path: '/', name: 'ask', component: AskPage },
    { path: '/:rest(.*)', redirect: '/' },
  ],
})
