import { describe, expect, it } from 'vitest'

import { touched } from './live'

describe('touched', () => {
  it('refreshes what shows the kinds that changed, and the journal', () => {
    expect(touched(['step'])).toEqual(new Set(['journal', 'revocation', 'revocations', 'today', 'leaving']))
  })
  it('refreshes everything for a kind that can show anywhere', () => {
    expect(touched(['grant'])).toBeNull()
    expect(touched(['everything'])).toBeNull()
  })
})
