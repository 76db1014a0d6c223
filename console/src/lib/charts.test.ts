import { describe, expect, it } from 'vitest'

import type { Path } from '@/data/types'

import { lanesOf } from './charts'

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
