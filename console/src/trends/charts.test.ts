import { describe, expect, it } from 'vitest'

import type { TrendPoint } from '@/service/types'

import { took, unrecordedLines } from './charts'

const point = (unrecorded: [string, number][] | null): TrendPoint =>
  ({ unrecorded: unrecorded?.map(([name, count]) => ({ system: { id: name, name }, count })) ?? null }) as TrendPoint

describe('unrecorded access by system', () => {
  it('is none where nothing was found, and a gap where nothing is known', () => {
    const points = [point(null), point([['Mail', 2]]), point([['Mail', 0], ['Books', 1]])]
    expect(unrecordedLines(points)).toEqual([
      { name: 'Mail', values: [null, 2, 0] },
      { name: 'Books', values: [null, null, 1] },
    ])
  })
})

describe('how long something took', () => {
  it('is told in minutes, hours or days', () => {
    expect([null, 0.001, 0.5, 3, 71.9, 72].map(took)).toEqual(['–', '1 min', '30 min', '3.0 h', '3.0 days', '3.0 days'])
  })
})
