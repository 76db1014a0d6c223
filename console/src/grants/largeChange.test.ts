import { describe, expect, it } from 'vitest'

import type { LargeChange } from '@/service/types'
import { told } from './largeChange'

const change: Parameters<typeof told>[0] = { only_preview: false, state: 'done', grants: 300, done: 300, changed: 290, refused: 10, lines: [], problem: '' }

describe('what came of a large change', () => {
  it.each([
    [{}, '290 of 300 grants changed, 10 refused. The list shows 0 of them.'],
    [{ only_preview: true }, '290 of 300 grants would change, 10 are refused. The list shows 0 of them.'],
    [{ state: 'stopped', done: 50, changed: 50, refused: 0 }, 'Stopped. 50 of 300 grants changed, 0 refused. The list shows 0 of them.'],
    [{ state: 'stopped', only_preview: true, done: 50 }, 'Stopped after 50 of 300 grants. Nothing was changed.'],
    [{ state: 'failed', done: 50, problem: 'The log says why.' }, 'It broke off after 50 of 300 grants. The log says why.'],
  ] as [Partial<LargeChange>, string][])('never says more than was done: %o', (more, sentence) => {
    expect(told({ ...change, ...more })).toBe(sentence)
  })
})
