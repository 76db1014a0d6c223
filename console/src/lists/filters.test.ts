import { describe, expect, it } from 'vitest'

import { placeOfFault, readFilter, writtenFilter, type Condition } from './filters'

const KINDS: Record<string, string> = { 'account.sensitivity': 'number', last_used_at: 'time', 'holder.inside': 'truth' }
const kindOf = (name: string) => KINDS[name] ?? 'text'

describe('chosen filters', () => {
  const conditions: Condition[] = [
    { name: 'account.sensitivity', operator: 'ge', value: '3' },
    { name: 'holder.inside', operator: 'eq', value: 'false' },
    { name: 'holder.name', operator: 'co', value: 'the "old" guard' },
    { name: 'last_used_at', operator: 'lt', value: '2026-03-01' },
    { name: 'until', operator: 'np', value: '' },
    { name: 'since', operator: 'pr', value: '' },
  ]

  it('are written and read back as they were', () => {
    const text = writtenFilter(conditions, kindOf)
    expect(text).toBe('account.sensitivity ge 3 and holder.inside eq false and holder.name co "the \\"old\\" guard" and last_used_at lt "2026-03-01T00:00:00Z" and not (until pr) and since pr')
    expect(readFilter(text)).toEqual(conditions)
  })

  it('leave out what is not yet whole', () => {
    expect(writtenFilter([{ name: 'level', operator: 'eq', value: ' ' }, { name: '', operator: 'eq', value: 'x' }], kindOf)).toBe('')
  })

  it.each(['a eq 1 or b eq 2', 'not (a eq 1)', '(a eq 1)', 'a eq', 'a eq 1 b eq 2', 'a eq null'])('are not made of what is more: %s', (text) => {
    expect(readFilter(text)).toBeNull()
  })
})

describe('a fault in a filter', () => {
  it('is found by its character, or by the attribute', () => {
    expect(placeOfFault('state eq active', 'at character 10')).toEqual([9, 15])
    expect(placeOfFault('stat eq "active"', 'stat')).toEqual([0, 4])
    expect(placeOfFault('state eq', 'at its end')).toEqual([8, 8])
  })
})
