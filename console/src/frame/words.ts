import type { Ends, Proof } from '@/service/types'

/** The words of the register as people read them. */

export const REACH_WORDS = ['', 'observe', 'operate', 'spend', 'steward'] as const
export const REACH_PLAIN = [
  '',
  'can see',
  'can change',
  "can commit money or other people's rights",
  'can decide who else gets in',
] as const
export const SEVERITY_WORDS = ['', 'low', 'medium', 'high', 'critical'] as const
export const SENSITIVITY_WORDS = SEVERITY_WORDS

const DAY = 86_400_000

/** The organisation's time zone, in which days and times are written; the reader's own until it is known. */
let timeZone: string | undefined

export function setTimeZone(zone: string | undefined): void {
  timeZone = zone
}

/** The language that dates are written in. */
let locale = 'en-GB'

export function setLocale(chosen: string | undefined): void {
  locale = chosen ?? 'en-GB'
}

/** The day of an instant where the organisation is, or a date, as people write it. */
export function day(at: string | null | undefined): string {
  if (!at) return ''
  const zone = at.length === '2026-03-31'.length ? 'UTC' : timeZone
  return new Date(at).toLocaleDateString(locale, { day: 'numeric', month: 'short', year: 'numeric', timeZone: zone })
}

/** A day and a time, as clocks show it where the organisation is. */
export function moment(at: string | null | undefined): string {
  if (!at) return ''
  const options = { day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit', timeZone } as const
  return new Date(at).toLocaleString(locale, options)
}

/** How long ago, in days. */
export function ago(at: string | null | undefined, now: number = Date.now()): string {
  if (!at) return 'never'
  const days = Math.floor((now - Date.parse(at)) / DAY)
  if (days < 1) return 'today'
  return days === 1 ? 'yesterday' : `${days} days ago`
}

/** Something with an end: `last_day` where it ends with a day in its account's time zone. */
export interface Ending {
  until?: string | null
  last_day?: string | null
}

/** When a window ends, in words. An end at midnight is the end of the day before. */
export function untilWords(end: Ending, now: number = Date.now()): string {
  const at = end.until
  if (!at) return 'no end'
  const last = end.last_day ?? new Date(Date.parse(at) - 1).toISOString()
  const days = Math.ceil((Date.parse(at) - now) / DAY)
  if (days < 0) return `over since ${day(last)}`
  return days <= 30 ? `${day(last)}, ${days <= 1 ? 'the last day' : `${days} days left`}` : day(last)
}

/** An end as it stands in a sentence. */
export function ends(end: Ending): string {
  if (!end.until) return 'without an end'
  return untilWords(end).startsWith('over') ? untilWords(end) : `until ${untilWords(end)}`
}

/** Why a grant gives nothing now. */
export function idleWords(grant: { state: string; since: string | null }, now: number = Date.now()): string {
  if (grant.state !== 'active') return plain(grant.state)
  return grant.since && Date.parse(grant.since) > now ? `begins ${moment(grant.since)}` : 'gives nothing now'
}

/** A browser and its system, as far as it says what it is. */
export function deviceWords(agent: string): string {
  const browser = [/Firefox/, /Edg/, /OPR/, /Chrom/, /Safari/, /curl|python|httpx|openlatch/i].findIndex((one) => one.test(agent))
  const system = [/Android/, /iPhone|iPad/, /Windows/, /Mac OS/, /Linux|X11/].findIndex((one) => one.test(agent))
  const what = ['Firefox', 'Edge', 'Opera', 'Chromium', 'Safari', 'a program'][browser]
  const on = ['Android', 'an iPhone or iPad', 'Windows', 'a Mac', 'Linux'][system]
  if (!what && !on) return agent || 'a browser'
  return on ? `${what ?? 'A browser'} on ${on}` : (what ?? 'a browser')
}

/** A count with its noun in the right number. */
export function counted(count: number, one: string, many: string = `${one}s`): string {
  return `${count} ${count === 1 ? one : many}`
}

/** What the button that starts a revocation will do. */
export function endingWords(rights: number, sessions: number): string {
  const parts = []
  if (sessions) parts.push(`end ${counted(sessions, 'session')}`)
  if (rights) parts.push(`remove ${counted(rights, 'right')}`)
  const text = parts.join(' and ') || 'remove this access'
  return text.charAt(0).toUpperCase() + text.slice(1)
}

/** A word with underscores as people write it. */
export function plain(word: string | null | undefined): string {
  return (word ?? '').replaceAll('_', ' ')
}

/** How the end of access is known: a sign that needs no colour, and what the word means. */
export const PROOFS: Record<Proof, { mark: string; plain: string }> = {
  confirmed: { mark: '✓', plain: 'The system was asked again and shows it gone.' },
  stated: { mark: '“”', plain: 'A person says that they removed it.' },
  unproved: { mark: '?', plain: 'Nothing shows that it is gone.' },
  contradicted: { mark: '✗', plain: 'A later reading of the system shows it.' },
}

/** Counts of ends, each kind apart: "9 confirmed, 2 stated". */
export function endsWords(ends: Ends): string {
  const said = (Object.keys(PROOFS) as Proof[]).filter((proof) => ends[proof]).map((proof) => `${ends[proof]} ${proof}`)
  return said.join(', ') || 'none'
}
