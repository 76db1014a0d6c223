import { describe, expect, it } from 'vitest'

import type { ItemRow } from '@/service/types'

import { actOf, grouped, needsReason, revokingWords } from './reviews'

const item = (more: Partial<ItemRow> = {}): ItemRow =>
  ({ kind: 'grant', level: 'Read', holder: { name: 'Mara' }, facts: { account: { name: 'Box' } }, severity: 0, recommended: 'keep', ...more }) as ItemRow
const key = (name: string, more = {}) => actOf({ key: name, ctrlKey: false, metaKey: false, altKey: false, ...more })

describe('actOf', () => {
  it('knows its keys in either case, and leaves others and combinations alone', () => {
    expect([key('k'), key('K'), key('ArrowDown'), key('u')]).toEqual(['keep', 'keep', 'next', 'undo'])
    expect([key('q'), key('Tab'), key('r', { ctrlKey: true }), key('k', { metaKey: true })]).toEqual([null, null, null, null])
  })
})

describe('needsReason', () => {
  it('asks for none where a keep is undisputed', () => {
    expect([needsReason(item(), 'keep'), needsReason(item({ severity: 2 }), 'keep')]).toEqual([false, false])
    expect([needsReason(item({ severity: 3 }), 'keep'), needsReason(item(), 'revoke')]).toEqual([true, true])
  })
})

describe('grouped', () => {
  it('puts together what has something in common, in the order in which it comes', () => {
    const rows = [item({ level: 'Read' }), item({ level: 'Run' }), item({ level: 'Read' })]
    expect(grouped(rows, 'level').map((group) => [group.name, group.items.length])).toEqual([['Read', 2], ['Run', 1]])
    expect(grouped(rows, '')).toHaveLength(1)
  })
})

describe('revokingWords', () => {
  it('says what the button will do', () => {
    expect(revokingWords(item())).toBe('Revoke “Read” of Mara')
    expect(revokingWords(item({ kind: 'exposure', level: 'Rota' }))).toBe('Close “Rota” to everyone outside')
  })
})
