/** The event stream: what changed is asked for again, the moment it is committed. */

import { useQueryCache } from '@pinia/colada'
import { onScopeDispose, ref, watch } from 'vue'

import { askWhoIam, me } from '@/identity/me'
import type { components } from './openapi'

/** Every kind of thing that can change, as the service names them. */
export type ChangedKind = components['schemas']['Changed']['kinds'][number]

const ALL = null

/** Which queries show which kinds of things; ALL refreshes everything that is shown. */
const SHOWN_IN: Record<ChangedKind, string[] | typeof ALL> = {
  everything: ALL,
  access_rule: ALL,
  account: ALL,
  action: ['next', 'matter'],
  app: ALL,
  archive: [],
  calendar: [],
  change: ['today'],
  charter: ['charter'],
  delivery: ['webhooks', 'signal-receivers'],
  expected_exposure: ALL,
  exposure: ALL,
  exposure_guard: ALL,
  exposure_guards: ALL,
  exposures: ALL,
  filter: ALL,
  flag: ['flags', 'rules', 'facts', 'today', 'next', 'matter', 'account', 'accounts', 'person', 'people', 'apps', 'app'],
  grant: ALL,
  group: ALL,
  import: ALL,
  item: ['round', 'items', 'rounds', 'today'],
  latch: ALL,
  level: ALL,
  mail: [],
  membership: ALL,
  notice: ['notices'],
  offer: ['offers', 'mine', 'account', 'today'],
  organisation: ALL,
  partner: ALL,
  person: ALL,
  provider: ['identity-providers'],
  request: ['requests', 'mine', 'today'],
  resource: ALL,
  revocation: ['revocation', 'revocations', 'today', 'account', 'person', 'app', 'leaving'],
  round: ['round', 'items', 'rounds', 'today'],
  rule: ['rules', 'flags', 'facts', 'charter'],
  rule_draft: ALL,
  rule_drafts: ALL,
  schedule: ['rounds', 'charter'],
  session: ['sessions', 'today', 'account', 'accounts', 'people', 'person', 'leaving'],
  settings: ALL,
  sign_in: ['sign-ins'],
  signal_receiver: ['signal-receivers'],
  signal_source: ['signals', 'signal-sources'],
  step: ['revocation', 'revocations', 'today', 'leaving'],
  system: ['systems', 'today'],
  task: ALL,
  team: ALL,
  token: [],
  webhook: ['webhooks'],
  visit: ['account', 'mine'],
}

/** The first parts of the keys of queries that these kinds of changes touch; null for all of them. */
export function touched(kinds: ChangedKind[]): Set<string> | null {
  const found = new Set<string>(['journal'])
  for (const kind of kinds) {
    const shown = SHOWN_IN[kind]
    if (!shown) return null
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
    const kinds = (JSON.parse(event.data) as { kinds: ChangedKind[] }).kinds
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
