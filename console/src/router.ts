import { createRouter, createWebHistory } from 'vue-router'
import AskPage from './pages/AskPage.vue'

/** The pages of the console, as the bar has them. */
export const pages = [
  { name: 'ask', to: '/', title: 'Ask' },
  { name: 'types', to: '/types', title: 'Types' },
  { name: 'help', to: '/help', title: 'Help' },
]

export const router = createRouter({
  history: createWebHistory('/console/'),
  routes: [
    { path: '/', name: 'ask', component: AskPage },
    { path: '/types/:coordinate?', name: 'types', component: () => import('./pages/TypesPage.vue') },
    { path: '/help/:page?', name: 'help', component: () => import('./pages/HelpPage.vue') },
    { path: '/:rest(.*)', redirect: '/' },
  ],
})
