import { createRouter, createWebHistory } from 'vue-router'

/** The pages of a service, in the order of their number keys. */
export const pages = [
  { name: 'board', label: 'Board' },
  { name: 'source', label: 'Source' },
  { name: 'versions', label: 'Versions' },
  { name: 'plan', label: 'Plan' },
  { name: 'deliveries', label: 'Deliveries' },
  { name: 'functions', label: 'Functions' },
  { name: 'journal', label: 'Journal' },
] as const

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', name: 'start', component: () => import('./pages/StartPage.vue') },
    {
      path: '/',
      component: () => import('./pages/PlainFrame.vue'),
      children: [
        { path: 'services', name: 'services', component: () => import('./pages/ServicesPage.vue') },
        { path: 'notifications', name: 'notifications', component: () => import('./pages/NotificationsPage.vue') },
        { path: 'account', name: 'account', component: () => import('./pages/AccountPage.vue') },
        { path: 'docs', name: 'docs', redirect: { name: 'doc', params: { name: 'manifest' } } },
        { path: 'docs/:name', name: 'doc', component: () => import('./pages/DocsPage.vue') },
        { path: 'api', name: 'api', component: () => import('./pages/ApiPage.vue') },
      ],
    },
    {
      path: '/s/:service',
      component: () => import('./pages/ServiceFrame.vue'),
      children: [
        { path: '', redirect: { name: 'board' } },
        { path: 'board', name: 'board', component: () => import('./pages/BoardPage.vue') },
        { path: 'source', name: 'source', component: () => import('./pages/SourcePage.vue') },
        { path: 'versions', name: 'versions', component: () => import('./pages/VersionsPage.vue') },
        {
          path: 'versions/:version(\\d+)',
          name: 'version',
          component: () => import('./pages/VersionPage.vue'),
          meta: { page: 'versions' },
        },
        {
          path: 'versions/:version(\\d+)/compare/:other(\\d+)',
          name: 'compare',
          component: () => import('./pages/ComparePage.vue'),
          meta: { page: 'versions' },
        },
        { path: 'plan', name: 'plan', component: () => import('./pages/PlanPage.vue') },
        {
          path: 'plan/:id(\\d+)',
          name: 'saved-plan',
          component: () => import('./pages/PlanPage.vue'),
          meta: { page: 'plan' },
        },
        {
          path: 'deployments/:id(\\d+)',
          name: 'deployment',
          component: () => import('./pages/DeploymentPage.vue'),
          meta: { page: 'deliveries' },
        },
        { path: 'deliveries', name: 'deliveries', component: () => import('./pages/DeliveriesPage.vue') },
        {
          path: 'deliveries/:version(\\d+)/:stage',
          name: 'delivery',
          component: () => import('./pages/DeliveryPage.vue'),
          meta: { page: 'deliveries' },
        },
        { path: 'functions', name: 'functions', component: () => import('./pages/FunctionsPage.vue') },
        {
          path: 'functions/:function/:tab?',
          name: 'function',
          component: () => import('./pages/FunctionsPage.vue'),
          meta: { page: 'functions' },
        },
        { path: 'health', name: 'health', component: () => import('./pages/HealthPage.vue') },
        { path: 'journal', name: 'journal', component: () => import('./pages/JournalPage.vue') },
      ],
    },
    { path: '/:rest(.*)*', name: 'not-found', component: () => import('./pages/NotFoundPage.vue') },
  ],
})
