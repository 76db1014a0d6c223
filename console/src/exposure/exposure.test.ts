import { expect, test } from 'vitest'

import { judgedWords, written } from './exposure'

test('what was judged comes before what is expected', () => {
  const expected = { id: 'x', name: 'Press page' }
  expect(judgedWords({ judgement: 'unjudged', intended_until: null, expected_by: null })).toBe('not judged')
  expect(judgedWords({ judgement: 'unjudged', intended_until: null, expected_by: expected })).toBe('expected: Press page')
  expect(judgedWords({ judgement: 'to_close', intended_until: null, expected_by: expected })).toBe('to be closed')
  expect(judgedWords({ judgement: 'intended', intended_until: null, expected_by: expected })).toBe('intended')
})

test('lists of plain values stand in one line', () => {
  expect(written({ to: ['see', 'a, "b"'], while: [{ secure: true }], on: [] })).toBe('{\n  "to": ["see", "a, \\"b\\""],\n  "while": [\n    {\n      "secure": true\n    }\n  ],\n  "on": []\n}')
})
