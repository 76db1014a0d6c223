import { gettext, language, lookUp, ngettext } from '@/frame/language'
import table from 'virtual:words:frame/vocabulary'
import type { Ends, Proof } from '@/service/types'

/** The words of the register as people read them. */

export const REACHES = ['observe', 'operate', 'spend', 'steward'] as const
export const REACH_WORDS = ['', gettext('observe'), gettext('operate'), gettext('spend'), gettext('steward')]
export const REACH_PLAIN = [
  '',
  gettext('can see'),
  gettext('can change'),
  gettext('can commit money or other people’s rights'),
  gettext('can decide who else gets in'),
]
export const SEVERITY_WORDS = ['', gettext('low'), gettext('medium'), gettext('high'), gettext('critical')]
export const SENSITIVITY_WORDS = SEVERITY_WORDS

const DAY = 86_400_000

const USUAL = { en: 'en-GB', de: 'de-DE' }

/** The organisation's time zone, in which days and times are written; the reader's own until it is known. */
let timeZone: string | undefined

export function setTimeZone(zone: string | undefined): void {
  timeZone = zone
}

/** How dates and numbers are written; as in the language of the texts until somebody has chosen. */
let locale = USUAL[language]

export function setLocale(chosen: string | undefined): void {
  locale = chosen ?? USUAL[language]
}

/** A number as people write it. */
export function number(count: number): string {
  return count.toLocaleString(locale)
}

/** A month with its year. */
export function monthOf(date: Date): string {
  return date.toLocaleDateString(locale, { month: 'long', year: 'numeric' })
}

/** The day of an instant where the organisation is, or a date, as people write it. */
export function day(at: string | null | undefined): string {
  if (!at) return ''
  const zone = at.length === '2026-03-31'.length ? 'UTC' : timeZone
  return new Date(at).toLocaleDateString(locale, { day: 'numeric', month: 'short', year: 'numeric', timeZone: zone })
}

/** A date with its weekday, in full. */
export function longDay(date: string): string {
  return new Date(date).toLocaleDateString(locale, { weekday: 'long', day: 'numeric', month: 'long', year: 'numeric', timeZone: 'UTC' })
}

/** Whether dates are written in English. */
export const isEnglish = (): boolean => locale.startsWith('en')

/** Whether the reader writes the month before the day. */
export function monthFirst(): boolean {
  const parts = new Intl.DateTimeFormat(locale, { day: 'numeric', month: 'numeric' }).formatToParts(0)
  return parts.find((part) => part.type === 'day' || part.type === 'month')?.type === 'month'
}

/** A day and a time, as clocks show it where the organisation is. */
export function moment(at: string | null | undefined): string {
  if (!at) return ''
  const options = { day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit', timeZone } as const
  return new Date(at).toLocaleString(locale, options)
}

/** A moment in a time zone, with its weekday and year. */
export function momentIn(at: string, zone: string): string {
  return new Date(at).toLocaleString(locale, { timeZone: zone, weekday: 'short', day: 'numeric', month: 'short', year: 'numeric', hour: '2-digit', minute: '2-digit' })
}

/** How long ago, in days. */
export function ago(at: string | null | undefined, now: number = Date.now()): string {
  if (!at) return gettext('never')
  const days = Math.floor((now - Date.parse(at)) / DAY)
  if (days < 1) return gettext('today')
  return days === 1 ? gettext('yesterday') : gettext('%{days} days ago', { days })
}

/** Something with an end: `last_day` where it ends with a day in its account's time zone. */
export interface Ending {
  until?: string | null
  last_day?: string | null
}

/** When a window ends, in words. An end at midnight is the end of the day before. */
export function untilWords(end: Ending, now: number = Date.now()): string {
  const at = end.until
  if (!at) return gettext('no end')
  const last = end.last_day ?? new Date(Date.parse(at) - 1).toISOString()
  const days = Math.ceil((Date.parse(at) - now) / DAY)
  if (Date.parse(at) <= now) return gettext('over since %{last}', { last: day(last) })
  return days <= 30 ? `${day(last)}, ${days <= 1 ? gettext('the last day') : gettext('%{days} days left', { days })}` : day(last)
}

/** An end as it stands in a sentence. */
export function ends(end: Ending): string {
  if (!end.until) return gettext('without an end')
  return Date.parse(end.until) <= Date.now() ? untilWords(end) : gettext('until %{end}', { end: untilWords(end) })
}

/** Why a grant gives nothing now. */
export function idleWords(grant: { state: string; since: string | null }, now: number = Date.now()): string {
  if (grant.state !== 'active') return plain(grant.state)
  return grant.since && Date.parse(grant.since) > now ? gettext('begins %{since}', { since: moment(grant.since) }) : gettext('gives nothing now')
}

/** A browser and its system, as far as it says what it is. */
export function deviceWords(agent: string): string {
  const browser = [/Firefox/, /Edg/, /OPR/, /Chrom/, /Safari/, /curl|python|httpx|openlatch/i].findIndex((one) => one.test(agent))
  const system = [/Android/, /iPhone|iPad/, /Windows/, /Mac OS/, /Linux|X11/].findIndex((one) => one.test(agent))
  const what = ['Firefox', 'Edge', 'Opera', 'Chromium', 'Safari', gettext('a program')][browser]
  const on = ['Android', gettext('an iPhone or iPad'), 'Windows', gettext('a Mac'), 'Linux'][system]
  if (!what && !on) return agent || gettext('a browser')
  return on ? gettext('%{what} on %{on}', { what: what ?? gettext('A browser'), on }) : (what ?? gettext('a browser'))
}

/** What the button that starts a revocation will do. */
export function endingWords(rights: number, sessions: number): string {
  const parts = []
  if (sessions) parts.push(gettext('end %{count}', { count: ngettext('%{n} session', '%{n} sessions', sessions) }))
  if (rights) parts.push(gettext('remove %{count}', { count: ngettext('%{n} right', '%{n} rights', rights) }))
  const text = parts.join(gettext(' and ')) || gettext('remove this access')
  return text.charAt(0).toUpperCase() + text.slice(1)
}

/** A word of the service as people write it. */
export function plain(word: string | null | undefined): string {
  return lookUp(table, (word ?? '').replaceAll('_', ' '))
}

/** How the end of access is known: a sign that needs no colour, and what the word means. */
export const PROOFS: Record<Proof, { mark: string; plain: string }> = {
  confirmed: { mark: '✓', plain: gettext('The system was asked again and shows it gone.') },
  stated: { mark: '“”', plain: gettext('A person says that they removed it.') },
  unproved: { mark: '?', plain: gettext('Nothing shows that it is gone.') },
  contradicted: { mark: '✗', plain: gettext('A later reading of the system shows it.') },
}

/** Counts of ends, each kind apart: "9 confirmed, 2 stated". */
export function endsWords(ends: Ends): string {
  const said = (Object.keys(PROOFS) as Proof[]).filter((proof) => ends[proof]).map((proof) => `${ends[proof]} ${plain(proof)}`)
  return said.join(', ') || gettext('none')
}
