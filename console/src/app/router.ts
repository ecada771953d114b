import { createRouter, createWebHistory } from 'vue-router'
import { resume, useSession } from './session'

// `stage` is the highlighted stage of the navigation.
export const router = createRouter({
  history: createWebHistory(),
  routes: [
    {
      path: '/sign-in',
      component: () => import('../features/sign-in/SignInPage.vue'),
      meta: { open: true, title: 'Sign in' },
    },
    {
      path: '/your-applications',
      component: () => import('../features/your-applications/YourApplicationsPage.vue'),
      meta: { open: true, title: 'Your applications' },
    },
    {
      path: '/your-applications/security',
      component: () => import('../features/local-users/OwnSecurityPage.vue'),
      meta: { open: true, title: 'Security' },
    },
    {
      path: '/invitation',
      component: () => import('../features/local-users/InvitationPage.vue'),
      meta: { open: true, title: 'Invitation' },
    },
    {
      path: '/new-password',
      component: () => import('../features/local-users/NewPasswordPage.vue'),
      meta: { open: true, title: 'Choose a new password' },
    },
    {
      path: '/',
      component: () => import('../features/reporting/OverviewPage.vue'),
      meta: { title: 'Overview' },
    },
    {
      path: '/sources',
      component: () => import('../features/sources/SourcesPage.vue'),
      meta: { stage: 'sources', title: 'Sources' },
    },
    {
      path: '/sources/:id/:tab?',
      component: () => import('../features/sources/SourcePage.vue'),
      props: true,
      meta: { stage: 'sources', title: 'Source' },
    },
    {
      path: '/users',
      component: () => import('../features/users/UsersPage.vue'),
      meta: { stage: 'users', title: 'Users' },
    },
    {
      path: '/users/:id',
      component: () => import('../features/users/UserPage.vue'),
      props: true,
      meta: { stage: 'users', title: 'User' },
    },
    {
      path: '/erased-users',
      component: () => import('../features/users/ErasedUsersPage.vue'),
      meta: { stage: 'users', title: 'Erased users' },
    },
    {
      path: '/invitations',
      component: () => import('../features/local-users/InvitationsPage.vue'),
      meta: { stage: 'users', title: 'Invitations' },
    },
    {
      path: '/marked-users',
      component: () => import('../features/users/MarkedUsersPage.vue'),
      meta: { stage: 'users', title: 'Marked users' },
    },
    {
      path: '/groups',
      component: () => import('../features/users/GroupsPage.vue'),
      meta: { stage: 'users', title: 'Groups' },
    },
    {
      path: '/groups/:id',
      component: () => import('../features/users/GroupPage.vue'),
      props: true,
      meta: { stage: 'users', title: 'Group' },
    },
    {
      path: '/access/:tab?',
      component: () => import('../features/access/AccessPage.vue'),
      meta: { stage: 'access', title: 'Access' },
    },
    {
      path: '/reviews/:id',
      component: () => import('../features/access/ReviewPage.vue'),
      props: true,
      meta: { stage: 'access', title: 'Access review' },
    },
    {
      path: '/applications',
      component: () => import('../features/applications/ApplicationsPage.vue'),
      meta: { stage: 'applications', title: 'Applications' },
    },
    {
      path: '/applications/:id/:tab?',
      component: () => import('../features/applications/ApplicationPage.vue'),
      props: true,
      meta: { stage: 'applications', title: 'Application' },
    },
    {
      path: '/provisioning/tasks',
      component: () => import('../features/provisioning/TasksPage.vue'),
      meta: { stage: 'tasks', title: 'Provisioning' },
    },
    {
      path: '/provisioning/tasks/:id',
      component: () => import('../features/provisioning/TaskPage.vue'),
      props: true,
      meta: { stage: 'tasks', title: 'Provisioning task' },
    },
    {
      path: '/activity',
      component: () => import('../features/reporting/ActivityPage.vue'),
      meta: { title: 'Activity' },
    },
    {
      path: '/settings/:tab?',
      component: () => import('../features/settings/SettingsPage.vue'),
      props: true,
      meta: { title: 'Settings' },
    },
    {
      path: '/second-factor',
      component: () => import('../features/sign-in/SecondFactorPage.vue'),
      meta: { title: 'Set up your second factor' },
    },
    { path: '/:rest(.*)', component: () => import('./NotFoundPage.vue'), meta: { title: 'Page not found' } },
  ],
})

router.beforeEach(async (to) => {
  if (to.meta.open) return true
  if (!(await resume())) return { path: '/sign-in', query: to.fullPath === '/' ? {} : { to: to.fullPath } }
  // Operators who need a second factor set one up first.
  const needs = useSession().session.value?.needs_second_factor ?? false
  if (needs !== (to.path === '/second-factor')) return needs ? { path: '/second-factor' } : { path: '/' }
  // An application owner sees lists of one of their own applications at a time.
  const own = useSession().session.value?.applications
  if (
    own?.length &&
    /^\/(access|tasks|activity)/.test(to.path) &&
    !own.includes(String(to.query.application))
  )
    return { path: to.path, query: { ...to.query, application: own[0] } }
  return true
})

router.afterEach((to) => {
  document.title = `${String(to.meta.title ?? '')} · Dravo`
})
