import { describe, expect, it } from 'vitest'

import type { Me } from '@/service/types'
import { placeOf, placesOf } from './places'

const somebody = { administrator: false, auditor: false, owner: false, reviewer: false, inside: null } as unknown as Me
const labels = (more: Partial<Me>): string[] => placesOf({ ...somebody, ...more }).map((group) => group.label)

describe('places', () => {
  it('are at most seven at first sight, and only those that have something for somebody', () => {
    expect(labels({ administrator: true })).toEqual(['Today', 'My access', 'Access', 'Risk', 'Reviews', 'Ending', 'Organisation'])
    expect(labels({})).toEqual(['Today', 'My access', 'Access'])
    expect(labels({ reviewer: true })).toContain('Reviews')
    expect(labels({ owner: true })).not.toContain('Sign-ins')
  })
  it('are those about the account while somebody acts in one', () => {
    const inside = placesOf({ ...somebody, owner: true, inside: {} as Me['inside'] })
    expect(inside.flatMap((group) => group.places.map((place) => place.to))).not.toContain('/rounds')
  })
  it('know where a page belongs', () => {
    const all = placesOf({ ...somebody, administrator: true })
    expect(placeOf(all, '/accounts/1/rules')?.place.to).toBe('/accounts')
    expect(placeOf(all, '/matters/1~2')?.group.label).toBe('Risk')
    expect(placeOf(all, '/rounds/1')?.group.label).toBe('Reviews')
    expect(placeOf(all, '/notices')).toBeUndefined()
  })
})
