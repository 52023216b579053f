import { createRouter, createWebHistory } from 'vue-router'

import { BASE } from './api/base'
import { FORMS } from './forms/fields'
import { HELD_PAGES, isHeld, lookUpSession, user } from './session'

export const router = createRouter({
  history: createWebHistory(BASE),
  routes: [
    { path: '/sign-in', name: 'sign-in', component: () => import('./pages/SignIn.vue'), meta: { title: 'Sign in', open: true } },
    { path: '/', name: 'overview', component: () => import('./pages/Overview.vue'), meta: { title: 'Overview' } },
    { path: '/reports', name: 'reports', component: () => import('./pages/Reports.vue'), meta: { title: 'Reports' } },
    { path: '/reports/:name', name: 'report', component: () => import('./pages/Report.vue'), meta: { title: 'Report' } },
    { path: '/reports/:name/schedule', name: 'schedule', component: () => import('./pages/Schedule.vue'), meta: { title: 'Schedule' } },
    { path: '/dashboards', name: 'dashboards', component: () => import('./pages/Dashboards.vue'), meta: { title: 'Dashboards' } },
    { path: '/dashboards/:name', name: 'dashboard', component: () => import('./pages/Dashboard.vue'), meta: { title: 'Dashboard' } },
    { path: '/new/dashboard', name: 'new-dashboard', component: () => import('./dashboards/Editor.vue'), meta: { title: 'New dashboard' } },
    { path: '/dashboards/:name/edit', name: 'edit-dashboard', component: () => import('./dashboards/Editor.vue'), meta: { title: 'Edit dashboard' } },
    { path: '/reports/new/choose', name: 'new-report', component: () => import('./reports/NewReport.vue'), meta: { title: 'New report' } },
    { path: '/new/report/page', name: 'new-page-report', component: () => import('./reports/PageReport.vue'), meta: { title: 'A page I already have' } },
    { path: '/templates', name: 'templates', component: () => import('./templates/Templates.vue'), meta: { title: 'Ready-made reports' } },
    { path: '/templates/:name', name: 'template', component: () => import('./templates/Template.vue'), meta: { title: 'Ready-made report' } },
    { path: '/definitions', name: 'definitions', component: () => import('./definitions/Definitions.vue'), meta: { title: 'Definitions' } },
    { path: '/agenda', name: 'agenda', component: () => import('./pages/Agenda.vue'), meta: { title: 'Agenda' } },
    { path: '/definitions/:kind/:name', name: 'definition', component: () => import('./pages/Definition.vue'), meta: { title: 'Definition' } },
    { path: '/new/:kind/text', name: 'new-text', component: () => import('./pages/Definition.vue'), meta: { title: 'New definition' } },
    // What has no form begins as text.
    { path: '/new/:kind', name: 'new', component: () => import('./forms/Form.vue'), meta: { title: 'New definition' }, beforeEnter: (to) => (String(to.params.kind) in FORMS ? true : { name: 'new-text', params: to.params }) },
    { path: '/forms/:kind/:name', name: 'form', component: () => import('./forms/Form.vue'), meta: { title: 'Definition' }, beforeEnter: (to) => (String(to.params.kind) in FORMS ? true : { name: 'definition', params: to.params }) },
    { path: '/runs', name: 'runs', component: () => import('./pages/Runs.vue'), meta: { title: 'Runs' } },
    { path: '/published', name: 'published', component: () => import('./published/Published.vue'), meta: { title: 'Published' } },
    { path: '/archive', name: 'archive', component: () => import('./archive/Archive.vue'), meta: { title: 'Archive' } },
    { path: '/archive/kept', name: 'keeping', component: () => import('./archive/Keeping.vue'), meta: { title: 'Kept how long' } },
    { path: '/runs/:id', name: 'run', component: () => import('./pages/Run.vue'), meta: { title: 'Run' } },
    { path: '/sources', name: 'sources', component: () => import('./pages/Sources.vue'), meta: { title: 'Sources' } },
    { path: '/sources/:name/query', name: 'query', component: () => import('./pages/Query.vue'), meta: { title: 'Query' } },
    { path: '/delivery', name: 'delivery', component: () => import('./pages/Delivery.vue'), meta: { title: 'Delivery' } },
    { path: '/mailbox/:id?', name: 'mailbox', component: () => import('./pages/Mailbox.vue'), meta: { title: 'Mailbox' } },
    { path: '/condition', name: 'condition', component: () => import('./pages/Condition.vue'), meta: { title: 'Condition' } },
    { path: '/users', name: 'users', component: () => import('./users/Users.vue'), meta: { title: 'Users' } },
    { path: '/audit', name: 'audit', component: () => import('./users/Audit.vue'), meta: { title: 'Audit trail' } },
    { path: '/account', name: 'account', component: () => import('./users/Account.vue'), meta: { title: 'Your sign-in' } },
    { path: '/invitation', name: 'invitation', component: () => import('./users/Invitation.vue'), meta: { title: 'Invitation', open: true } },
    { path: '/:rest(.*)*', name: 'lost', component: () => import('./pages/Lost.vue'), meta: { title: 'Not found' } },
  ],
})

let asked = false

router.beforeEach(async (to) => {
  if (!asked) {
    await lookUpSession().catch(() => undefined)
    asked = true
  }
  if (!user.value && !to.meta.open) {
    return { name: 'sign-in', query: to.fullPath === '/' ? {} : { to: to.fullPath } }
  }
  if (isHeld.value && !to.meta.open && !HELD_PAGES.includes(String(to.name))) {
    return { name: 'published' }
  }
  return true
})

router.afterEach((to) => {
  document.title = `${String(to.meta.title)} · Maple Lark`
})

window.addEventListener('signed-out', () => {
  user.value = null
  const current = router.currentRoute.value
  // Before the first page is there, the guard above says where it goes.
  if (asked && !current.meta.open) {
    void router.push({ name: 'sign-in', query: { to: current.fullPath } })
  }
})
