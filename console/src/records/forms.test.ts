import { describe, expect, it } from 'vitest'

import { FORMS, changed, fresh, shown } from './forms'

describe('forms', () => {
  it('send only what an edit changes, and empty a field with null', () => {
    const before = { name: 'Nora', job: 'Cook', marks: [{ kind: 'uid', value: '7' }] }
    expect(changed(before, { ...before, job: '' })).toEqual({ job: null })
    expect(changed(before, { ...before, marks: [] })).toEqual({ marks: [] })
    expect(changed(before, { ...before, marks: [{ kind: 'uid', value: '7' }] })).toEqual({})
  })
  it('begin with a value for every field', () => {
    for (const kind of Object.keys(FORMS) as (keyof typeof FORMS)[]) {
      for (const field of FORMS[kind]) expect(fresh(kind)).toHaveProperty(field.name)
    }
  })
  it('say values in words, by name where they name something', () => {
    expect(shown([], {})).toBe('nothing')
    expect(shown({ kind: 'team', id: 'x1' }, { x1: 'Office' })).toBe('team Office')
    expect(shown(false)).toBe('no')
  })
})
