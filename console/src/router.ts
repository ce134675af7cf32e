import { createRouter, createWebHistory } from 'vue-router'

import { useSession } from './composables/session'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', name: 'now', component: () => import('./pages/NowPage.vue'), meta: { title: 'Now' } },
    {
      path: '/incidents',
      name: 'incidents',
      component: () => import('./pages/IncidentsPage.vue'),
      meta: { title: 'Incidents' },
    },
    {
      path: '/incidents/:number(\\d+)',
      name: 'incident',
      component: () => import('./pages/IncidentPage.vue'),
      meta: { title: 'Incident' },
    },
    {
      path: '/alerts/:id',
      name: 'alert',
      component: () => import('./pages/AlertPage.vue'),
      meta: { title: 'Alert' },
    },
    {
      path: '/runbooks',
      name: 'runbooks',
      component: () => import('./pages/RunbooksPage.vue'),
      meta: { title: 'Runbooks' },
    },
    {
      path: '/runbooks/:name',
      name: 'runbook',
      component: () => import('./pages/RunbookPage.vue'),
      meta: { title: 'Runbook' },
    },
    {
      path: '/library',
      name: 'library',
      component: () => import('./pages/LibraryPage.vue'),
      meta: { title: 'Library' },
    },
    {
      path: '/library/:name',
      name: 'library-runbook',
      component: () => import('./pages/LibraryRunbookPage.vue'),
      meta: { title: 'Library' },
    },
    {
      path: '/services',
      name: 'services',
      component: () => import('./pages/ServicesPage.vue'),
      meta: { title: 'Services' },
    },
    {
      path: '/services/:name',
      name: 'service',
      component: () => import('./pages/ServicePage.vue'),
      meta: { title: 'Service' },
    },
    { path: '/runs', name: 'runs', component: () => import('./pages/RunsPage.vue'), meta: { title: 'Runs' } },
    { path: '/runs/:id', name: 'run', component: () => import('./pages/RunPage.vue'), meta: { title: 'Run' } },
    {
      path: '/triggers',
      name: 'triggers',
      component: () => import('./pages/TriggersPage.vue'),
      meta: { title: 'Triggers' },
    },
    {
      path: '/triggers/:name',
      name: 'trigger',
      component: () => import('./pages/TriggerPage.vue'),
      meta: { title: 'Trigger' },
    },
    {
      path: '/sources',
      name: 'sources',
      component: () => import('./pages/SourcesPage.vue'),
      meta: { title: 'Sources' },
    },
    {
      path: '/sources/:name',
      name: 'source',
      component: () => import('./pages/SourcePage.vue'),
      meta: { title: 'Source' },
    },
    {
      path: '/documents',
      name: 'documents',
      component: () => import('./pages/DocumentsPage.vue'),
      meta: { title: 'Documents' },
    },
    {
      path: '/documents/:kind/:name?',
      name: 'document',
      component: () => import('./pages/DocumentPage.vue'),
      meta: { title: 'Document' },
    },
    {
      path: '/people',
      name: 'people',
      component: () => import('./setup/PeoplePage.vue'),
      meta: { title: 'People and teams' },
    },
    { path: '/rotas', name: 'rotas', component: () => import('./setup/RotasPage.vue'), meta: { title: 'Rotas' } },
    {
      path: '/targets',
      name: 'targets',
      component: () => import('./setup/TargetsPage.vue'),
      meta: { title: 'Targets' },
    },
    {
      path: '/integrations',
      name: 'integrations',
      component: () => import('./setup/IntegrationsPage.vue'),
      meta: { title: 'Integrations' },
    },
    {
      path: '/secrets',
      name: 'secrets',
      component: () => import('./setup/SecretsPage.vue'),
      meta: { title: 'Secrets and files' },
    },
    { path: '/audit', name: 'audit', component: () => import('./setup/AuditPage.vue'), meta: { title: 'Audit' } },
    {
      path: '/installation',
      name: 'installation',
      component: () => import('./setup/InstallationPage.vue'),
      meta: { title: 'Installation' },
    },
    {
      path: '/reports',
      name: 'reports',
      component: () => import('./pages/ReportsPage.vue'),
      meta: { title: 'Reports' },
    },
    {
      path: '/objectives',
      name: 'objectives',
      component: () => import('./pages/ObjectivesPage.vue'),
      meta: { title: 'Objectives' },
    },
    {
      path: '/readings',
      name: 'readings',
      component: () => import('./pages/ReadingsPage.vue'),
      meta: { title: 'Readings' },
    },
    { path: '/me', name: 'me', component: () => import('./pages/MePage.vue'), meta: { title: 'Me' } },
    {
      path: '/a',
      name: 'link',
      component: () => import('./pages/LinkPage.vue'),
      meta: { title: 'Sent to you', open: true },
    },
    {
      path: '/sign-in',
      name: 'sign-in',
      component: () => import('./pages/SignInPage.vue'),
      meta: { title: 'Sign in', open: true },
    },
    {
      path: '/setup',
      name: 'setup',
      component: () => import('./pages/SetUpPage.vue'),
      meta: { title: 'Set up', open: true },
    },
    {
      path: '/:rest(.*)',
      name: 'nowhere',
      component: () => import('./pages/NowherePage.vue'),
      meta: { title: 'Not here' },
    },
  ],
})

router.beforeEach(async (to) => {
  if (to.meta.open) return true
  const session = useSession()
  if (!session.asked) await session.ask()
  return session.me ? true : { name: 'sign-in', query: { then: to.fullPath } }
})

/** Pages of whoever is not signed in; on the others the frame says how many wait, too. */
router.afterEach((to) => {
  if (to.meta.open) document.title = `${String(to.meta.title)} · Urgentis`
})
