/** The places of the console, grouped by what people come for. Everybody sees those that have something for them. */

import { computed } from 'vue'
import { useRoute } from 'vue-router'

import { me } from '@/identity/me'
import type { Me } from '@/service/types'

export interface Place {
  to: string
  label: string
  /** What is there, for finding it by other words. */
  about: string
  /** Whether it is open while somebody acts in an account, on its owner's behalf. */
  inside?: true
  whom?: (who: Me) => boolean
}

export interface Group {
  label: string
  places: Place[]
}

const sees = (who: Me): boolean => who.administrator || who.auditor
const answers = (who: Me): boolean => sees(who) || who.owner
const reviews = (who: Me): boolean => answers(who) || who.reviewer

const GROUPS: Group[] = [
  { label: 'Today', places: [{ to: '/', label: 'Today', about: 'What to do first' }] },
  { label: 'My access', places: [{ to: '/mine', label: 'My access', about: 'What you can reach, offers and requests of your own, absence' }] },
  {
    label: 'Access',
    places: [
      { to: '/accounts', label: 'Accounts', about: 'Shared mailboxes, databases, sites: who can reach them', inside: true },
      { to: '/people', label: 'People', about: 'Delegates and colleagues, and what they hold', inside: true, whom: answers },
      { to: '/teams', label: 'Teams', about: 'Groups of people that hold access together', whom: answers },
      { to: '/apps', label: 'Apps', about: 'Connected apps, their links and tokens', inside: true, whom: answers },
      { to: '/grants', label: 'Grants', about: 'Every grant of access, with its end and its use', inside: true, whom: answers },
      { to: '/sessions', label: 'Sessions', about: 'Who is signed in where', inside: true, whom: answers },
      { to: '/levels', label: 'Levels', about: 'What each level of access lets somebody do', inside: true, whom: answers },
      { to: '/offers', label: 'Offers', about: 'Access offered, and waiting for an answer', inside: true },
      { to: '/requests', label: 'Requests', about: 'Access asked for', inside: true },
    ],
  },
  {
    label: 'Risk',
    places: [
      { to: '/flags', label: 'Flags', about: 'What is stale or risky, and why', inside: true, whom: answers },
      { to: '/exposures', label: 'Exposures', about: 'What is open to outsiders', whom: answers },
      { to: '/map', label: 'Unused and dangerous', about: 'All grants by danger and by how long they went unused', whom: answers },
      { to: '/rules', label: 'Rules', about: 'What raises flags, its limits, rules of your own', whom: answers },
    ],
  },
  { label: 'Reviews', places: [{ to: '/rounds', label: 'Reviews', about: 'Rounds, schedules, evidence', whom: reviews }] },
  {
    label: 'Ending',
    places: [
      { to: '/revocations', label: 'Revocations', about: 'Access being ended, and how each end is known', inside: true, whom: answers },
      { to: '/tasks', label: 'To do by hand', about: 'Steps in systems that nobody here can change', inside: true, whom: answers },
      { to: '/ends', label: 'Expiry dates', about: 'What ends when', whom: answers },
    ],
  },
  {
    label: 'Organisation',
    places: [
      { to: '/systems', label: 'Systems', about: 'Where accounts live, and files to import', whom: sees },
      { to: '/drift', label: 'Drift', about: 'Where systems differ from the register', whom: sees },
      { to: '/sign-ins', label: 'Sign-ins', about: 'Who signs in here, in which role; invitations', whom: sees },
      { to: '/partners', label: 'Partners', about: 'Other organisations whose people act for yours', whom: sees },
      { to: '/journal', label: 'Journal', about: 'Everything that happened, sealed', inside: true, whom: answers },
      { to: '/settings', label: 'Settings', about: 'How access is given, mail, name and time zone', whom: sees },
    ],
  },
]

/** Pages that belong to a place without being below its address. */
const BELONGS: Record<string, string> = { '/matters': '/flags', '/facts': '/rules', '/give': '/offers', '/begin': '/systems' }

function isAt(path: string, to: string): boolean {
  return to === '/' ? path === '/' : path === to || path.startsWith(`${to}/`)
}

/** The groups that somebody sees, each with the places that have something for them. */
export function placesOf(who: Me | null): Group[] {
  const isFor = (place: Place): boolean => who !== null && (who.inside ? place.inside === true : (place.whom?.(who) ?? true))
  return GROUPS.map((group) => ({ ...group, places: group.places.filter(isFor) })).filter((group) => group.places.length)
}

/** The place that a page belongs to. */
export function placeOf(groups: Group[], path: string): { group: Group; place: Place } | undefined {
  const belongs = Object.entries(BELONGS).find(([from]) => isAt(path, from))?.[1] ?? path
  for (const group of groups) {
    const place = group.places.find(({ to }) => isAt(belongs, to))
    if (place) return { group, place }
  }
  return undefined
}

/** The places of whoever is signed in, and where they are. */
export function usePlaces() {
  const route = useRoute()
  const groups = computed(() => placesOf(me.value))
  const here = computed(() => placeOf(groups.value, route.path))
  return { groups, here }
}
