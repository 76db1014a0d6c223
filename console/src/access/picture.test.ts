import { describe, expect, it } from 'vitest'

import type { Path } from '@/service/types'

import { beside, fromPerson, mirrored, picture, throughAny } from './picture'

function path(name: string, over: string[] = [], more: Partial<Path> = {}): Path {
  const hops = [name, ...over].map((one) => ({ kind: 'holds', words: '', grant_id: null, holder: { kind: over.includes(one) ? 'team' : 'person', id: one, name: one } }))
  return { holder: { kind: 'person', id: name, name, inside: true, standing: null }, level: 'Read', reach: 1, hops, part: null, ...more } as Path
}

describe('the picture of paths', () => {
  it('draws five holders one by one, beside the team that they come in by', () => {
    const drawn = picture([path('a'), path('b'), path('c', ['team']), path('d', ['team']), path('e', [], { reach: 4 })], 'Box')
    expect(drawn.nodes.map((node) => node.label).sort()).toEqual(['Box', 'a', 'b', 'c', 'd', 'e', 'team'])
    const at = (id: string) => drawn.nodes.find((node) => node.id === id)
    expect(at('person:c')!.column).toBe(2)
    expect(at('team:team')!.column).toBe(1)
    expect(at('person:e')!.y).toBeLessThan(at('person:a')!.y)
    expect(drawn.links).toHaveLength(6)
  })

  it('stays readable at five hundred: bundles, none over another', () => {
    const many = Array.from({ length: 500 }, (_, n) => path(`p${n}`, n % 3 ? [`team ${n % 7}`] : [], { reach: n % 50 ? 1 : 3 }))
    const drawn = picture(many, 'Box')
    expect(drawn.nodes.length).toBeLessThan(60)
    expect(drawn.nodes.filter((node) => node.kind === 'person').reduce((sum, node) => sum + node.count, 0)).toBe(500)
    const column = drawn.nodes.filter((node) => node.column === 2).sort((a, b) => a.y - b.y)
    for (let n = 1; n < column.length; n++) {
      expect(column[n]!.y - column[n - 1]!.y).toBeGreaterThanOrEqual((column[n]!.height + column[n - 1]!.height) / 2 - 0.01)
    }
  })

  it('leads ways that pass over a column between what stands there', () => {
    const both = [path('a', ['team']), path('a'), path('b', ['team']), path('b'), ...['c', 'd', 'e', 'f'].map((one) => path(one))]
    const drawn = picture(both, 'Box')
    const beside = drawn.nodes.filter((node) => node.column === 1)
    const passing = drawn.links.filter((link) => link.over.length)
    expect(passing.map((link) => link.from).sort()).toEqual(['person:a', 'person:b'])
    for (const stop of passing.flatMap((link) => link.over)) {
      for (const node of beside) expect(Math.abs(node.y - stop.y)).toBeGreaterThanOrEqual(node.height / 2)
    }
    expect(drawn.nodes.some((node) => node.kind === 'lane')).toBe(false)
    const far = picture([...both, path('g', ['team']), path('g', [], { reach: 4 })], 'Box').links.filter((link) => link.over.length)
    const heights = (isFar: boolean) => new Set(far.filter((link) => (link.reach >= 3) === isFar).map((link) => link.over[0]!.y))
    expect([...heights(true)].some((y) => heights(false).has(y))).toBe(false)
  })

  it('has nothing but the account when nobody reaches it', () => {
    expect(picture([], 'Box').nodes).toHaveLength(1)
  })
})

describe('the picture from a person’s side', () => {
  const to = (account: string, over: string[] = []) => ({ ...path('ann', over), account: { id: account, name: account } }) as Path
  const drawn = mirrored(picture(fromPerson([to('Box'), to('Ledger', ['wardens']), to('Rota', ['wardens'])]), 'Ann'), 210)
  const at = (id: string) => drawn.nodes.find((node) => node.id === id)!

  it('has the person on the left, and what they reach by a team behind it', () => {
    expect(drawn.nodes.map((node) => node.label).sort()).toEqual(['Ann', 'Box', 'Ledger', 'Rota', 'wardens'])
    expect(at('account').x).toBeLessThan(at('team:wardens').x)
    expect(at('team:wardens').x).toBeLessThan(at('account:Ledger').x)
  })

  it('is walked by arrow keys, and lights what lies on the way', () => {
    expect(beside(drawn.nodes, null, 'ArrowRight')).toBe('account')
    expect(at(beside(drawn.nodes, 'account', 'ArrowRight')!).x).toBe(at('team:wardens').x)
    expect(beside(drawn.nodes, 'account', 'ArrowLeft')).toBe('account')
    expect([...throughAny(drawn.links, ['account:Rota'])].sort()).toEqual(['account', 'account:Rota', 'team:wardens'])
    expect(drawn.links.find((link) => link.to === 'account:Box')!.from).toBe('account')
  })
})
