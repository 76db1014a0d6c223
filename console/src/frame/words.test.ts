import { describe, expect, it } from 'vitest'

import { ago, day, endingWords, setTimeZone, untilWords } from './words'

const NOW = Date.parse('2026-03-10T12:00:00Z')

describe('untilWords', () => {
  it('names the last day, not the midnight after it', () => {
    expect(untilWords({ until: '2026-03-21T00:00:00Z' }, NOW)).toContain('20 Mar 2026')
  })
  it('takes the day where the account is, and else where the organisation is', () => {
    expect(untilWords({ until: '2026-12-16T10:00:00Z', last_day: '2026-12-15' }, NOW)).toBe('15 Dec 2026')
    setTimeZone('Pacific/Auckland')
    expect(untilWords({ until: '2026-12-15T11:00:00Z' }, NOW)).toBe('15 Dec 2026')
    expect(day('2026-12-15T12:00:00Z')).toBe('16 Dec 2026')
    setTimeZone('America/New_York')
    expect(day('2026-12-15')).toBe('15 Dec 2026')
    setTimeZone(undefined)
  })
  it('counts the days that are left when there are few', () => {
    expect(untilWords({ until: '2026-03-15T00:00:00Z' }, NOW)).toContain('5 days left')
    expect(untilWords({ until: '2026-09-15T00:00:00Z' }, NOW)).not.toContain('left')
  })
  it('says when there is no end, and when it is over', () => {
    expect(untilWords({ until: null }, NOW)).toBe('no end')
    expect(untilWords({ until: '2026-03-01T00:00:00Z' }, NOW)).toContain('over since')
    expect(untilWords({ until: '2026-03-10T11:59:00Z' }, NOW)).toBe('over since 10 Mar 2026')
  })
})

describe('ago', () => {
  it('tells never, today and days apart', () => {
    expect(ago(null, NOW)).toBe('never')
    expect(ago('2026-03-10T08:00:00Z', NOW)).toBe('today')
    expect(ago('2026-03-01T12:00:00Z', NOW)).toBe('9 days ago')
  })
})

describe('endingWords', () => {
  it('says what the button will do', () => {
    expect(endingWords(2, 3)).toBe('End 3 sessions and remove 2 rights')
    expect(endingWords(1, 0)).toBe('Remove 1 right')
    expect(endingWords(0, 0)).toBe('Remove this access')
  })
})
