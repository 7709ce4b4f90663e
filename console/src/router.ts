import { createRouter, createWebHistory } from 'vue-router'
import AskPage from './pages/AskPage.vue'

/** The pages of the console, as the bar has them. */
export const pages = [
  { name: 'ask', to: '/', title: 'Ask' },
  { name: 'types', to: '/types', title: 'Types' },
  { name: 'sources', to: '/sources', title: 'Sources' },
  { name: 'traffic', to: '/traffic', title: 'Traffic' },
  { name: 'revisions', to: '/revisions', title: 'Revisions' },
  { name: 'access', to: '/access', title: 'Access' },
  { name: 'help', to: '/help', title: 'Help' },
]

export const router = createRouter({
  history: createWebHistory('/console/'),
  routes: [
    { path: '/', name: 'ask', component: AskPage },
    { path: '/start', name: 'start', component: () => import('./pages/StartPage.vue') },
    { path: '/types/:coordinate?', name: 'types', component: () => import('./pages/TypesPage.vue') },
    { path: '/sources/:source?/:set?', name: 'sources', component: () => import('./pages/SourcesPage.vue') },
    { path: '/traffic', name: 'traffic', component: () => import('./pages/TrafficPage.vue') },
    { path: '/revisions/:number?', name: 'revisions', component: () => import('./pages/RevisionsPage.vue') },
    { path: '/access', name: 'access', component: () => import('./pages/AccessPage.vue') },
    { path: '/help/:page?', name: 'help', component: () => import('./pages/HelpPage.vue') },
    { path: '/:rest(.*)', redirect: '/' },
  ],
})
