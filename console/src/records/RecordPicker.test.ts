// @vitest-environment happy-dom
import { PiniaColada } from '@pinia/colada'
import userEvent from '@testing-library/user-event'
import { cleanup, render, screen } from '@testing-library/vue'
import { createPinia } from 'pinia'
import { afterEach, expect, test, vi } from 'vitest'

import RecordPicker from './RecordPicker.vue'

const asked: string[] = []
vi.stubGlobal('fetch', (address: string) => {
  asked.push(address)
  const rows = [{ id: 'p1', name: 'Lene Marsh', address: 'lene@example.org' }, { id: 'p2', name: 'Tobias Ren', address: null }]
  const search = /name co "(\w*)"/.exec(new URL(address, 'http://x').searchParams.get('filter') ?? '')?.[1] ?? ''
  return Promise.resolve(new Response(JSON.stringify({ rows: rows.filter((row) => row.name.includes(search)), next: '', count: null }), { headers: { 'Content-Type': 'application/json' } }))
})
afterEach(() => {
  cleanup()
  asked.length = 0
})

function shown(props: Record<string, unknown> = {}) {
  return render(RecordPicker, { props: { of: 'people', label: 'To whom', modelValue: null, ...props }, global: { plugins: [createPinia(), [PiniaColada, {}]] } })
}

test('what is typed is searched for in the service, and picked by the keyboard', async () => {
  const { emitted } = shown()
  await userEvent.type(screen.getByRole('combobox', { name: 'To whom' }), 'Tobias')
  await vi.waitFor(() => expect(asked.at(-1)).toContain('name+co+%22Tobias%22'))
  await vi.waitFor(() => expect(screen.getAllByRole('option')).toHaveLength(1))
  await userEvent.keyboard('{ArrowDown}{Enter}')
  expect(emitted()['update:modelValue']).toEqual([['p2']])
})

test('likely choices come first and once, and who can’t be picked is left out', async () => {
  shown({ choices: [{ id: 'p1', name: 'Lene Marsh', note: 'owns the account' }], without: ['p2'] })
  await userEvent.click(screen.getByRole('button', { name: 'To whom' }))
  await vi.waitFor(() => expect(screen.getAllByRole('option').map((one) => one.textContent?.trim())).toEqual(['Lene Marsh owns the account']))
})

test('Enter right after typing picks what was typed, not what was shown before', async () => {
  const { emitted } = shown()
  const box = screen.getByRole('combobox', { name: 'To whom' })
  await userEvent.click(screen.getByRole('button', { name: 'To whom' }))
  await vi.waitFor(() => expect(screen.getAllByRole('option')).toHaveLength(2))
  await userEvent.type(box, 'Tobias')
  await userEvent.keyboard('{Enter}')
  expect(emitted()['update:modelValue']).toEqual([['p2']])
})
