import { describe, expect, it } from 'vitest'

import type { Path, RoundProgress } from '@/service/types'

import { lanesOf, leftByDay } from './charts'

const NOW = Date.parse('2026-03-10T00:00:00Z')
const path = (name: string, until: string | null, more: Partial<Path> = {}): Path =>
  ({ holder: { name }, level: 'Reader', reach: 1, until, since: null, given_at: '2026-01-01T00:00:00Z', owns: false, ...more }) as Path

describe('lanesOf', () => {
  it('puts what ends first at the top, and what has no end last', () => {
    const { lanes } = lanesOf([path('c', null), path('b', '2026-05-01T00:00:00Z'), path('a', '2026-04-01T00:00:00Z')], NOW)
    expect(lanes.map((lane) => lane.label[0])).toEqual(['a', 'b', 'c'])
    expect(lanes[2]?.open).toBe(true)
  })
  it('leaves owners out, and never draws beyond its edges', () => {
    const { lanes, from, to } = lanesOf([path('o', null, { owns: true }), path('far', '2029-01-01T00:00:00Z')], NOW)
    expect(lanes).toHaveLength(1)
    expect(lanes[0]?.from).toBeGreaterThanOrEqual(from)
    expect(lanes[0]?.to).toBe(to)
  })
})

describe('leftByDay', () => {
  it('falls from all items to what is left now', () => {
    const progress = { items: 10, opened_at: '2026-03-01T00:00:00Z', by_day: [{ day: '2026-03-03', decided: 4, kept: 4 }, { day: '2026-03-05', decided: 1, kept: 0 }] }
    expect(leftByDay(progress as RoundProgress, NOW).map((point) => point[1])).toEqual([10, 6, 5, 5])
  })
})
