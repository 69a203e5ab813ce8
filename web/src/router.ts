import { createRouter, createWebHistory } from 'vue-router'
import BoardPage from './pages/BoardPage.vue'
import DiagnosePage from './pages/DiagnosePage.vue'
import JournalPage from './pages/JournalPage.vue'
import PeoplePage from './pages/PeoplePage.vue'
import PlanPage from './pages/PlanPage.vue'
import SessionsPage from './pages/SessionsPage.vue'
import TrialsPage from './pages/TrialsPage.vue'
import SignInPage from './pages/SignInPage.vue'
import { useSession } from './session'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: BoardPage, meta: { title: 'Reach' } },
    { path: '/plan', component: PlanPage, meta: { title: 'Plan' } },
    { path: '/people', component: PeoplePage, meta: { title: 'People' } },
    { path: '/sessions', component: SessionsPage, meta: { title: 'Sessions' } },
    { path: '/trials', component: TrialsPage, meta: { title: 'Trials' } },
    { path: '/diagnose', component: DiagnosePage, meta: { title: 'Diagnose' } },
    { path: '/journal', component: JournalPage, meta: { title: 'Journal' } },
    { path: '/sign-in', component: SignInPage, meta: { title: 'Sign in', open: true } },
    { path: '/:rest(.*)', redirect: '/' },
  ],
})

router.beforeEach(async (to) => {
  const session = useSession()
  if (!to.meta.open && !(await session.known())) return '/sign-in'
  document.title = `${to.meta.title} · Yellow Lantern`
})
