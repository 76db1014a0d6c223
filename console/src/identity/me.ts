/** Who is signed in. One place; every page asks here. */

import { useQueryCache } from '@pinia/colada'
import { ref } from 'vue'

import { CallFailed, get, keepCsrf, send } from '@/service/api'
import { changeLanguage } from '@/frame/language'
import { setLocale, setTimeZone } from '@/frame/words'

import type { PasskeyAnswer } from './passkeys'
import type { Me } from '@/service/types'

export const me = ref<Me | null>(null)

function keep(found: Me | null): void {
  me.value = found
  keepCsrf(found?.csrf ?? '')
  setTimeZone(found?.preferences.time_zone ?? found?.organisation.time_zone)
  setLocale(found?.preferences.locale ?? undefined)
  if (found) changeLanguage(found.preferences.locale)
}

/** Find out who is signed in; null when nobody is. */
export async function askWhoIam(): Promise<Me | null> {
  try {
    keep(await get('/me'))
  } catch (error) {
    if (!(error instanceof CallFailed && error.status === 401)) throw error
    keep(null)
  }
  return me.value
}

/** What one signs in with: an address, its password and what comes with it, or a passkey alone. */
export interface Given {
  address: string
  password: string
  code: string
  organisation: string
  passkey: PasskeyAnswer | null
}

export async function signIn(given: Partial<Given>): Promise<void> {
  keep(await send('POST', '/session', given))
}

/** Keep who is signed in from now on, by an answer that says so. */
export function keepMe(found: Me): void {
  keep(found)
}

/**
 * Switch into an account, or out again; every page is asked for anew, since it looks different from there.
 *
 * `goOn` leads to a page that is open there: the one before need not be.
 */
export function useSwitch(): { enter: (account: string, goOn: () => Promise<unknown>) => Promise<void>; leave: () => Promise<void> } {
  const cache = useQueryCache()
  return {
    enter: async (account, goOn) => {
      await send('POST', '/me/switch', { account })
      await askWhoIam()
      await goOn()
      await cache.invalidateQueries()
    },
    leave: async () => {
      await send('DELETE', '/me/switch')
      await askWhoIam()
      await cache.invalidateQueries()
    },
  }
}

/** Open a session at another organisation of one's own. The page is loaded anew: nothing of the one before stays in it. */
export async function switchOrganisation(signIn: string, code: string, passkey: PasskeyAnswer | null = null): Promise<void> {
  await send('POST', `/me/organisations/${signIn}/switch`, { code, passkey })
  window.location.assign('/')
}

export function useSignOut(): () => Promise<void> {
  const cache = useQueryCache()
  return async () => {
    const { then } = await send('DELETE', '/session')
    keep(null)
    for (const entry of cache.getEntries()) cache.remove(entry)
    // Whoever came by an identity provider signs out there, too.
    if (then) window.location.assign(then)
  }
}
