/** The words of reviews, and what keys do while one decides. */

import type { ItemRow, Verdict } from '@/service/types'

export const COVERS: [string, string][] = [
  ['grant', 'Grants of people, teams and accounts'],
  ['link', 'Links of apps'],
  ['session', 'Sessions'],
  ['exposure', 'Parts open to people outside'],
  ['ownership', 'Who owns accounts'],
  ['latch', 'Latches'],
  ['acceptance', 'Accepted flags'],
]
export const EVENTS: [string, string][] = [
  ['person_leaves', 'somebody leaves'],
  ['person_moves', 'somebody gets another job or manager'],
  ['app_grows', 'an app may do more'],
  ['more_sensitive', 'an account becomes more sensitive'],
  ['emergency_ended', 'emergency access has ended'],
]
export const FATES: [string, string][] = [
  ['keep', 'is kept, and flagged'],
  ['suspend', 'is suspended'],
  ['revoke', 'is revoked'],
]
export const REACHES = ['observe', 'operate', 'spend', 'steward'] as const
export const DONE_WORDS: Record<Verdict, string> = { keep: 'kept', trim: 'trimmed', revoke: 'revoked' }

/** What revoking comes to for an item, as a button says it. */
export function revokingWords(item: ItemRow): string {
  switch (item.kind) {
    case 'session':
      return `End the session of ${item.holder.name}`
    case 'exposure':
      return `Close “${item.level}” to everyone outside`
    case 'ownership':
      return `Offer ${item.facts.account.name} to another owner`
    case 'latch':
      return 'Switch this latch off'
    case 'acceptance':
      return 'Open the flag again'
    default:
      return `Revoke “${item.level}” of ${item.holder.name}`
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
    ({ account: item.facts.account.name, holder: item.holder.name, level: item.level, recommended: `Consider: ${item.recommended}` })[by] ?? ''
  const found = new Map<string, ItemRow[]>()
  for (const item of items) found.set(name(item), [...(found.get(name(item)) ?? []), item])
  return [...found].map(([key, some]) => ({ name: key, items: some }))
}
