/** The places of the console, grouped by what people come for. Everybody sees those that have something for them. */

import { computed } from 'vue'
import { useRoute } from 'vue-router'

import { gettext } from '@/frame/language'
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
  { label: gettext('Today'), places: [{ to: '/', label: gettext('Today'), about: gettext('What to do first') }] },
  { label: gettext('My access'), places: [{ to: '/mine', label: gettext('My access'), about: gettext('What you can reach, offers and requests of your own, absence') }] },
  {
    label: gettext('Access'),
    places: [
      { to: '/accounts', label: gettext('Accounts'), about: gettext('Shared mailboxes, databases, sites: who can reach them'), inside: true },
      { to: '/people', label: gettext('People'), about: gettext('Delegates and colleagues, and what they hold'), inside: true, whom: answers },
      { to: '/teams', label: gettext('Teams'), about: gettext('Groups of people that hold access together'), whom: answers },
      { to: '/apps', label: gettext('Apps'), about: gettext('Connected apps, their links and tokens'), inside: true, whom: answers },
      { to: '/grants', label: gettext('Grants'), about: gettext('Every grant of access, with its end and its use'), inside: true, whom: answers },
      { to: '/sessions', label: gettext('Sessions'), about: gettext('Who is signed in where'), inside: true, whom: answers },
      { to: '/levels', label: gettext('Levels'), about: gettext('What each level of access lets somebody do'), inside: true, whom: answers },
      { to: '/offers', label: gettext('Offers'), about: gettext('Access offered, and waiting for an answer'), inside: true },
      { to: '/requests', label: gettext('Requests'), about: gettext('Access asked for'), inside: true },
    ],
  },
  {
    label: gettext('Risk'),
    places: [
      { to: '/flags', label: gettext('Flags'), about: gettext('What is stale or risky, and why'), inside: true, whom: answers },
      { to: '/exposures', label: gettext('Exposures'), about: gettext('What is open to outsiders'), whom: answers },
      { to: '/map', label: gettext('Unused and dangerous'), about: gettext('All grants by danger and by how long they went unused'), whom: answers },
      { to: '/trends', label: gettext('Over time'), about: gettext('Risk, departures, revocations, reviews and exposures, week by week'), whom: sees },
      { to: '/rules', label: gettext('Rules'), about: gettext('What raises flags, its limits, rules of your own'), whom: answers },
    ],
  },
  { label: gettext('Reviews'), places: [{ to: '/rounds', label: gettext('Reviews'), about: gettext('Rounds, schedules, evidence'), whom: reviews }] },
  {
    label: gettext('Ending'),
    places: [
      { to: '/revocations', label: gettext('Revocations'), about: gettext('Access being ended, and how each end is known'), inside: true, whom: answers },
      { to: '/tasks', label: gettext('To do by hand'), about: gettext('Steps in systems that nobody here can change'), inside: true, whom: answers },
      { to: '/ends', label: gettext('Expiry dates'), about: gettext('What ends when'), whom: answers },
    ],
  },
  {
    label: gettext('Organisation'),
    places: [
      { to: '/systems', label: gettext('Systems'), about: gettext('Where accounts live, and files to import'), whom: sees },
      { to: '/drift', label: gettext('Drift'), about: gettext('Where systems differ from the register'), whom: sees },
      { to: '/sign-ins', label: gettext('Sign-ins'), about: gettext('Who signs in here, in which role; invitations'), whom: sees },
      { to: '/partners', label: gettext('Partners'), about: gettext('Other organisations whose people act for yours'), whom: sees },
      { to: '/signals', label: gettext('Signals'), about: gettext('Security events that other services report'), whom: sees },
      { to: '/webhooks', label: gettext('Webhooks'), about: gettext('Receivers that are told what is journalled'), whom: sees },
      { to: '/journal', label: gettext('Journal'), about: gettext('Everything that happened, sealed'), inside: true, whom: answers },
      { to: '/settings', label: gettext('Settings'), about: gettext('How access is given, mail, name and time zone'), whom: sees },
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
