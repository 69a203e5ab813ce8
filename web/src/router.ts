import { createRouter, createWebHistory } from 'vue-router'
import SignInPage from './pages/SignInPage.vue'
import { useSession } from './session'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: () => import('./pages/BoardPage.vue'), meta: { title: 'Reach' } },
    { path: '/plan', component: () => import('./pages/PlanPage.vue'), meta: { title: 'Plan' } },
    { path: '/people', component: () => import('./pages/PeoplePage.vue'), meta: { title: 'People' } },
    { path: '/handover', component: () => import('./pages/HandoverPage.vue'), meta: { title: 'Handover' } },
    { path: '/sessions', component: () => import('./pages/SessionsPage.vue'), meta: { title: 'Sessions' } },
    { path: '/trials', component: () => import('./pages/TrialsPage.vue'), meta: { title: 'Trials' } },
    { path: '/diagnose', component: () => import('./pages/DiagnosePage.vue'), meta: { title: 'Diagnose' } },
    { path: '/status', component: () => import('./pages/StatusPage.vue'), meta: { title: 'Status' } },
    { path: '/journal', component: () => import('./pages/JournalPage.vue'), meta: { title: 'Journal' } },
    { path: '/access', component: () => import('./pages/AccessPage.vue'), meta: { title: 'Access' } },
    { path: '/sign-in', component: SignInPage, meta: { title: 'Sign in', open: true } },
    { path: '/:rest(.*)', redirect: '/' },
  ],
})

router.beforeEach(async (to) => {
  const session = useSession()
  if (!to.meta.open && !(await session.known())) return '/sign-in'
  document.title = `${to.meta.title} · Yellow Lantern`
})
