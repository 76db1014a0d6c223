import { createRouter, createWebHistory } from 'vue-router'

import { gettext } from '@/frame/language'
import { get } from '@/service/api'
import { askWhoIam, me } from '@/identity/me'

export const router = createRouter({
  history: createWebHistory(),
  scrollBehavior: (_to, _from, saved) => saved ?? { top: 0 },
  routes: [
    { path: '/', name: 'today', component: () => import('@/today/TodayPage.vue'), meta: { title: gettext('Today') } },
    { path: '/sign-in', name: 'sign-in', component: () => import('@/identity/SignInPage.vue'), meta: { title: gettext('Sign in'), open: true } },
    { path: '/accounts', name: 'accounts', component: () => import('@/accounts/AccountsPage.vue'), meta: { title: gettext('Accounts') } },
    { path: '/accounts/:id', name: 'account', component: () => import('@/accounts/AccountPage.vue'), props: true, meta: { title: gettext('Account') } },
    { path: '/people', name: 'people', component: () => import('@/people/PeoplePage.vue'), meta: { title: gettext('People') } },
    { path: '/people/:id', name: 'person', component: () => import('@/people/PersonPage.vue'), props: true, meta: { title: gettext('Person') } },
    { path: '/people/:id/leaving', name: 'leaving', component: () => import('@/people/LeavingPage.vue'), props: true, meta: { title: gettext('Leaving') } },
    { path: '/teams', name: 'teams', component: () => import('@/people/TeamsPage.vue'), meta: { title: gettext('Teams') } },
    { path: '/teams/:id', name: 'team', component: () => import('@/people/TeamPage.vue'), props: true, meta: { title: gettext('Team') } },
    { path: '/sign-ins', name: 'sign-ins', component: () => import('@/identity/SignInsPage.vue'), meta: { title: gettext('Sign-ins') } },
    { path: '/partners', name: 'partners', component: () => import('@/partners/PartnersPage.vue'), meta: { title: gettext('Partners') } },
    { path: '/signals', name: 'signals', component: () => import('@/signals/SignalsPage.vue'), meta: { title: gettext('Signals') } },
    { path: '/webhooks', name: 'webhooks', component: () => import('@/webhooks/WebhooksPage.vue'), meta: { title: gettext('Webhooks') } },
    { path: '/device', name: 'device', component: () => import('@/identity/DevicePage.vue'), meta: { title: gettext('Let a program in') } },
    { path: '/organisations', name: 'organisations', component: () => import('@/partners/OrganisationsPage.vue'), meta: { title: gettext('My organisations') } },
    { path: '/me', name: 'me', component: () => import('@/identity/MePage.vue'), meta: { title: gettext('My sign-in') } },
    { path: '/set-up', name: 'set-up', component: () => import('@/identity/SetUpPage.vue'), meta: { title: gettext('Set up'), open: true } },
    { path: '/begin', name: 'begin', component: () => import('@/accounts/BeginPage.vue'), meta: { title: gettext('What do you share?') } },
    { path: '/invitation', name: 'invitation', component: () => import('@/identity/InvitationPage.vue'), meta: { title: gettext('You are invited'), open: true } },
    { path: '/forgotten', name: 'forgotten', component: () => import('@/identity/ForgottenPage.vue'), meta: { title: gettext('Forgotten password'), open: true } },
    { path: '/new-password', name: 'new-password', component: () => import('@/identity/NewPasswordPage.vue'), meta: { title: gettext('A new password'), open: true } },
    { path: '/drift', name: 'drift', component: () => import('@/systems/DriftPage.vue'), meta: { title: gettext('Drift') } },
    { path: '/grants', name: 'grants', component: () => import('@/grants/GrantsPage.vue'), meta: { title: gettext('Grants') } },
    { path: '/apps', name: 'apps', component: () => import('@/accounts/AppsPage.vue'), meta: { title: gettext('Apps') } },
    { path: '/apps/:id', name: 'app', component: () => import('@/accounts/AppPage.vue'), props: true, meta: { title: gettext('App') } },
    { path: '/sessions', name: 'sessions', component: () => import('@/grants/SessionsPage.vue'), meta: { title: gettext('Sessions') } },
    { path: '/exposures', name: 'exposures', component: () => import('@/exposure/ExposuresPage.vue'), meta: { title: gettext('Exposures') } },
    { path: '/accounts/:id/rules', name: 'access-rules', component: () => import('@/exposure/AccessRulesPage.vue'), props: true, meta: { title: gettext('Access rules') } },
    { path: '/flags', name: 'flags', component: () => import('@/flags/FlagsPage.vue'), meta: { title: gettext('Flags') } },
    { path: '/matters/:id', name: 'matter', component: () => import('@/next/MatterPage.vue'), props: true, meta: { title: gettext('Matter') } },
    { path: '/map', name: 'map', component: () => import('@/access/MapPage.vue'), meta: { title: gettext('Unused and dangerous') } },
    { path: '/trends', name: 'trends', component: () => import('@/trends/TrendsPage.vue'), meta: { title: gettext('Over time') } },
    { path: '/ends', name: 'ends', component: () => import('@/access/EndsPage.vue'), meta: { title: gettext('Expiry dates') } },
    { path: '/rules', name: 'rules', component: () => import('@/flags/RulesPage.vue'), meta: { title: gettext('Rules') } },
    { path: '/facts', name: 'facts', component: () => import('@/access/FactsPage.vue'), meta: { title: gettext('What the rules know') } },
    { path: '/rounds', name: 'rounds', component: () => import('@/reviews/RoundsPage.vue'), meta: { title: gettext('Reviews') } },
    { path: '/rounds/:id', name: 'round', component: () => import('@/reviews/RoundPage.vue'), props: true, meta: { title: gettext('Review') } },
    { path: '/revocations', name: 'revocations', component: () => import('@/revocations/RevocationsPage.vue'), meta: { title: gettext('Revocations') } },
    { path: '/revocations/:id', name: 'revocation', component: () => import('@/revocations/RevocationPage.vue'), props: true, meta: { title: gettext('Revocation') } },
    { path: '/systems', name: 'systems', component: () => import('@/systems/SystemsPage.vue'), meta: { title: gettext('Systems and files') } },
    { path: '/journal', name: 'journal', component: () => import('@/journal/JournalPage.vue'), meta: { title: gettext('Journal') } },
    { path: '/mine', name: 'mine', component: () => import('@/access/MinePage.vue'), meta: { title: gettext('My access') } },
    { path: '/give', name: 'give', component: () => import('@/offers/GivePage.vue'), meta: { title: gettext('Offer access') } },
    { path: '/offers', name: 'offers', component: () => import('@/offers/OffersPage.vue'), meta: { title: gettext('Offers') } },
    { path: '/offer', name: 'offer-link', component: () => import('@/offers/OfferLinkPage.vue'), meta: { title: gettext('An offer to you'), open: true } },
    { path: '/confirm', name: 'confirm', component: () => import('@/identity/ConfirmPage.vue'), meta: { title: gettext('Confirm an address'), open: true } },
    { path: '/requests', name: 'requests', component: () => import('@/requests/RequestsPage.vue'), meta: { title: gettext('Requests') } },
    { path: '/levels', name: 'levels', component: () => import('@/grants/LevelsPage.vue'), meta: { title: gettext('Levels') } },
    { path: '/tasks', name: 'tasks', component: () => import('@/systems/TasksPage.vue'), meta: { title: gettext('To do by hand') } },
    { path: '/notices', name: 'notices', component: () => import('@/notifications/NoticesPage.vue'), meta: { title: gettext('Notices') } },
    { path: '/settings', name: 'settings', component: () => import('@/settings/SettingsPage.vue'), meta: { title: gettext('Settings') } },
    { path: '/:rest(.*)*', name: 'lost', component: () => import('@/frame/LostPage.vue'), meta: { title: gettext('Not here') } },
  ],
})

const CLOSED_INSIDE = new Set(['today', 'mine', 'map', 'trends', 'ends', 'rules', 'facts', 'rounds', 'round', 'drift', 'systems', 'settings', 'notices', 'teams', 'team', 'sign-ins', 'exposures', 'matter', 'access-rules', 'partners', 'webhooks', 'signals', 'organisations', 'me'])

router.beforeEach(async (to) => {
  document.title = gettext('%{title} · Open Latch', { title: String(to.meta.title) })
  if (to.meta.open) return true
  if (me.value || (await askWhoIam())) {
    // Inside an account only what is about it is open: the rest waits until one is out again.
    const there = me.value?.inside?.account.id
    return there && CLOSED_INSIDE.has(String(to.name)) ? { name: 'account', params: { id: there } } : true
  }
  const { needed } = await get('/set-up')
  if (needed) return { name: 'set-up' }
  return { name: 'sign-in', query: to.fullPath === '/' ? {} : { then: to.fullPath } }
})
