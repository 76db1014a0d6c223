/** Exposures in words. */

import { gettext } from '@/frame/language'
import type { ExposureRow } from '@/service/types'

import type { Outsiders } from '@/access/picture'
import { day } from '@/frame/words'

export const AUDIENCES: Record<ExposureRow['audience'], string> = {
  anyone: gettext('anyone'),
  signed_in: gettext('anyone who signs in'),
  link: gettext('anyone with a link'),
  named: gettext('outsiders by name'),
}

/** Filters of what nobody has judged, and of what more than people who are named can change. */
export const UNJUDGED = 'judgement eq "unjudged" and not (expected_by.id pr)'
export const ANYONE_CHANGES = 'audience ne "named" and right ne "see"'

const REACH = { see: 1, change: 2, administer: 4 }
const DOES = { see: 'see', change: 'change', administer: gettext('decide who gets in') }

/** Those who get in by access rules, by how many they are: for the picture of an account. */
export function outsidersOf(rows: Pick<ExposureRow, 'audience' | 'right' | 'sentence'>[]): Outsiders[] {
  return (Object.keys(AUDIENCES) as ExposureRow['audience'][]).flatMap((audience) => {
    const theirs = rows.filter((row) => row.audience === audience)
    if (!theirs.length) return []
    const rights = (['see', 'change', 'administer'] as const).filter((right) => theirs.some((row) => row.right === right))
    const label = AUDIENCES[audience] ?? ''
    return [{
      label: label.charAt(0).toUpperCase() + label.slice(1), note: gettext('by access rules: %{rights}', { rights: rights.map((right) => DOES[right]).join(', ') }),
      reach: Math.max(...rights.map((right) => REACH[right])), count: theirs.length, names: theirs.map((row) => row.sentence),
    }]
  })
}

/** What was judged of an exposure. */
export function judgedWords(row: Pick<ExposureRow, 'judgement' | 'intended_until' | 'expected_by'>): string {
  if (row.judgement === 'intended') return row.intended_until ? gettext('intended until %{intended_until}', { intended_until: day(row.intended_until) }) : gettext('intended')
  if (row.judgement === 'to_close') return gettext('to be closed')
  return row.expected_by?.name ? gettext('expected: %{by}', { by: row.expected_by.name }) : gettext('not judged')
}

const SCALAR = '(?:"(?:[^"\\\\]|\\\\.)*"|-?[\\d.]+|true|false|null)'
const FLAT = new RegExp(`\\[\\s*(${SCALAR}(?:,\\s*${SCALAR})*)\\s*\\]`, 'g')

/** A document as people read it: indented, with lists of plain values in one line. */
export function written(document: unknown): string {
  return JSON.stringify(document, null, 2).replace(FLAT, (_, inner: string) => `[${inner.replace(/,\s*\n\s*/g, ', ').trim()}]`)
}
