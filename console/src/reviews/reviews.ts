/** The words of reviews, and what keys do while one decides. */

import { gettext, ngettext } from '@/frame/language'
import { plain } from '@/frame/words'
import type { ItemRow, Verdict } from '@/service/types'

export const COVERS: [string, string][] = [
  ['grant', gettext('Grants of people, teams and accounts')],
  ['link', gettext('Links of apps')],
  ['session', gettext('Sessions')],
  ['exposure', gettext('Parts open to people outside')],
  ['ownership', gettext('Who owns accounts')],
  ['latch', gettext('Latches')],
  ['acceptance', gettext('Accepted flags')],
]
export const EVENTS: [string, string][] = [
  ['person_leaves', gettext('somebody leaves')],
  ['person_moves', gettext('somebody gets another job or manager')],
  ['app_grows', gettext('an app may do more')],
  ['more_sensitive', gettext('an account becomes more sensitive')],
  ['emergency_ended', gettext('emergency access has ended')],
]
export const FATES: [string, string][] = [
  ['keep', gettext('is kept, and flagged')],
  ['suspend', gettext('is suspended')],
  ['revoke', gettext('is revoked')],
]
export const DONE_WORDS: Record<Verdict, string> = { keep: gettext('kept'), trim: gettext('trimmed'), revoke: gettext('revoked') }

/** What revoking comes to for an item, as a button says it. */
export function revokingWords(item: ItemRow): string {
  switch (item.kind) {
    case 'session':
      return gettext('End the session of %{holder}', { holder: item.holder.name })
    case 'exposure':
      return gettext('Close “%{level}” to everyone outside', { level: item.level })
    case 'ownership':
      return gettext('Offer %{account} to another owner', { account: item.facts.account.name })
    case 'latch':
      return gettext('Switch this latch off')
    case 'acceptance':
      return gettext('Open the flag again')
    default:
      return gettext('Revoke “%{level}” of %{holder}', { level: item.level, holder: item.holder.name })
  }
}

/** Whether a decision needs a reason: all but the keep of what has no high flag. */
export function needsReason(item: ItemRow, verdict: Verdict): boolean {
  return verdict !== 'keep' || item.severity >= 3
}

export type Act = Verdict | 'pass' | 'ask' | 'undo' | 'pick' | 'next' | 'before'

/** What a key does while the focus is among the items; null for keys that are not ours. */
export function actOf(event: Pick<KeyboardEvent, 'key' | 'ctrlKey' | 'metaKey' | 'altKey'>): Act | null {
  if (event.ctrlKey || event.metaKey || event.altKey) return null
  const keys: Record<string, Act> = {
    k: 'keep', t: 'trim', r: 'revoke', p: 'pass', a: 'ask', u: 'undo', x: 'pick', ArrowDown: 'next', ArrowUp: 'before',
  }
  return keys[event.key.length === 1 ? event.key.toLowerCase() : event.key] ?? null
}

/** Items in groups of those that have something in common, in the order in which they come. */
export function grouped(items: ItemRow[], by: string): { name: string; items: ItemRow[] }[] {
  const name = (item: ItemRow): string =>
    ({ account: item.facts.account.name, holder: item.holder.name, level: item.level, recommended: gettext('Consider: %{recommended}', { recommended: plain(item.recommended) }) })[by] ?? ''
  const found = new Map<string, ItemRow[]>()
  for (const item of items) found.set(name(item), [...(found.get(name(item)) ?? []), item])
  return [...found].map(([key, some]) => ({ name: key, items: some }))
}

/** So many items of a kind. */
export function itemsOf(kind: string, n: number): string {
  switch (kind) {
    case 'session':
      return ngettext('%{n} session', '%{n} sessions', n)
    case 'exposure':
      return ngettext('%{n} exposure', '%{n} exposures', n)
    case 'ownership':
      return ngettext('%{n} ownership', '%{n} ownerships', n)
    case 'latch':
      return ngettext('%{n} latch', '%{n} latches', n)
    case 'acceptance':
      return ngettext('%{n} acceptance', '%{n} acceptances', n)
    default:
      return ngettext('%{n} grant', '%{n} grants', n)
  }
}
