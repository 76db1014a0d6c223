/** The event stream: what changed is asked for again, the moment it is committed. */

import { useQueryCache } from '@pinia/colada'
import { onScopeDispose, ref, watch } from 'vue'

import { askWhoIam, me } from '@/identity/me'

/** Which queries show which kinds of things. Kinds that are not here refresh everything. */
const SHOWN_IN: Record<string, string[]> = {
  rule: ['rules', 'flags', 'facts'],
  place: [],
  flag: ['flags', 'rules', 'facts', 'today', 'account', 'accounts', 'person', 'people', 'apps', 'app'],
  sign_in: [],
  token: [],
  item: ['round', 'items', 'rounds', 'today'],
  round: ['round', 'items', 'rounds', 'today'],
  step: ['revocation', 'revocations', 'today', 'leaving'],
  revocation: ['revocation', 'revocations', 'today', 'account', 'person', 'app', 'leaving'],
  notice: ['notices'],
  offer: ['offers', 'mine', 'account', 'today'],
  request: ['requests', 'mine', 'today'],
  visit: ['account', 'mine'],
  mail: [],
  session: ['sessions', 'today', 'account', 'accounts', 'people', 'person', 'leaving'],
  schedule: ['rounds'],
  calendar: [],
  change: [],
  system: ['systems', 'today'],
}

/** The first parts of the keys of queries that these kinds of changes touch; null for all of them. */
export function touched(kinds: string[]): Set<string> | null {
  const found = new Set<string>(['journal'])
  for (const kind of kinds) {
    const shown = SHOWN_IN[kind]
    if (shown === undefined) return null
    for (const name of shown) found.add(name)
  }
  return found
}

export const isLive = ref(false)

/** Follow changes while somebody is signed in. */
export function useLive(): void {
  const cache = useQueryCache()
  let source: EventSource | null = null

  function onChanged(event: MessageEvent<string>): void {
    const kinds = (JSON.parse(event.data) as { kinds: string[] }).kinds
    if (kinds.some((kind) => ['notice', 'visit', 'grant'].includes(kind))) void askWhoIam()
    const names = touched(kinds)
    void cache.invalidateQueries({ predicate: (entry) => names === null || names.has(String(entry.key[0])) })
  }

  function open(): void {
    source = new EventSource('/api/v1/events')
    source.addEventListener('open', () => (isLive.value = true))
    source.addEventListener('error', () => (isLive.value = false))
    source.addEventListener('changed', onChanged)
  }

  function close(): void {
    source?.close()
    source = null
    isLive.value = false
  }

  watch(me, (found, before) => {
    if (found && !before) open()
    if (!found) close()
  }, { immediate: true })
  onScopeDispose(close)
}
