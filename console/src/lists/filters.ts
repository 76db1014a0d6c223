import { gettext } from '@/frame/language'

/** Filters that are chosen: conditions that all have to hold, and the written filter that means the same. */

export interface Condition {
  name: string
  operator: string
  /** As it is written in a field; empty for whether there is a value. */
  value: string
}

const WORDS: Record<string, string> = { eq: gettext('is'), ne: gettext('is not'), co: gettext('contains'), sw: gettext('begins with'), ew: gettext('ends with'), gt: gettext('is more than'), ge: gettext('is at least'), lt: gettext('is less than'), le: gettext('is at most'), pr: gettext('is there'), np: gettext('is not there') }
const OF_TIMES: Record<string, string> = { eq: gettext('is at'), ne: gettext('is not at'), gt: gettext('is after'), ge: gettext('is from … on'), lt: gettext('is before'), le: gettext('is up to') }

/** A comparison in words. `np` is our own, for `not (… pr)`. */
export function comparisonWords(operator: string, kind: string): string {
  return (kind === 'time' ? OF_TIMES[operator] : undefined) ?? WORDS[operator] ?? operator
}

/** The name of an attribute as people read it. */
export const attributeWords = (name: string): string => name.replace(/[._]/g, ' ').replace(/ at$/, '')

/** A condition as it is written; times are meant from the beginning of a day. */
function written({ name, operator, value }: Condition, kind: string): string {
  if (operator === 'pr') return `${name} pr`
  if (operator === 'np') return `not (${name} pr)`
  if (kind === 'number' || kind === 'truth') return `${name} ${operator} ${value}`
  return `${name} ${operator} ${JSON.stringify(kind === 'time' && /^\d{4}-\d{2}-\d{2}$/.test(value) ? `${value}T00:00:00Z` : value)}`
}

/** The written filter of conditions; those that lack something are left out. */
export function writtenFilter(conditions: Condition[], kindOf: (name: string) => string): string {
  const whole = conditions.filter((one) => one.name && one.operator && (['pr', 'np'].includes(one.operator) || one.value.trim()))
  return whole.map((one) => written(one, kindOf(one.name))).join(' and ')
}

const ATOM = /^\s*(?:not\s*\(\s*([\w.]+)\s+pr\s*\)|([\w.]+)\s+pr|([\w.]+)\s+(eq|ne|co|sw|ew|gt|ge|lt|le)\s+("(?:[^"\\]|\\.)*"|true|false|-?\d+(?:\.\d+)?))\s*/i

/** The conditions of a written filter; null for one that is more than conditions which all have to hold. */
export function readFilter(text: string): Condition[] | null {
  const found: Condition[] = []
  let rest = text
  while (rest.trim()) {
    if (found.length) {
      const joined = /^\s*and\s+/i.exec(rest)
      if (!joined) return null
      rest = rest.slice(joined[0].length)
    }
    const atom = ATOM.exec(rest)
    if (!atom) return null
    const [all, absent, present, name, operator, value] = atom
    if (absent) found.push({ name: absent, operator: 'np', value: '' })
    else if (present) found.push({ name: present, operator: 'pr', value: '' })
    else found.push({ name: name as string, operator: (operator as string).toLowerCase(), value: valueOf(value as string) })
    rest = rest.slice(all.length)
  }
  return found
}

function valueOf(written: string): string {
  const value: unknown = JSON.parse(written)
  return typeof value === 'string' ? value.replace(/T00:00:00Z$/, '') : String(value)
}

/** Where in a written filter something is wrong: a range to select. */
export function placeOfFault(text: string, fault: string): [number, number] {
  const at = /character (\d+)/.exec(fault)
  if (at) return [Number(at[1]) - 1, text.length]
  const named = text.indexOf(fault)
  return named >= 0 && fault ? [named, named + fault.length] : [text.length, text.length]
}
