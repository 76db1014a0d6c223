// @vitest-environment happy-dom
import { cleanup, fireEvent, render, screen, waitFor } from '@testing-library/vue'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'

import { CallFailed } from '@/service/api'
import DayField from './DayField.vue'

const asked = vi.hoisted(() => vi.fn())
vi.mock('@/service/api', async (original) => ({ ...(await original<typeof import('@/service/api')>()), get: asked }))

describe('a day field', () => {
  beforeEach(() => void asked.mockReset())
  afterEach(cleanup)

  const show = (value = '') => {
    const shown = render(DayField, { props: { modelValue: value, label: 'Last day', end: true } })
    const field = screen.getByLabelText('Last day') as HTMLInputElement
    return { shown, field, picked: () => (shown.emitted('update:modelValue') ?? []).at(-1) }
  }

  it('takes a date as it is, without asking anybody', async () => {
    const { field, picked } = show()
    await fireEvent.update(field, '2027-03-31')
    expect(picked()).toEqual(['2027-03-31'])
    expect(asked).not.toHaveBeenCalled()
  })

  it('holds back what is typed until it has been read, and says which day it is', async () => {
    asked.mockResolvedValue({ day: '2027-03-31' })
    const { shown, field, picked } = show('2026-12-01')
    await fireEvent.update(field, '31 mar')
    expect(picked()).toEqual([''])
    expect(field.validity.valid).toBe(false)
    await waitFor(() => expect(picked()).toEqual(['2027-03-31']))
    expect(asked).toHaveBeenCalledWith('/days', { words: '31 mar', past: false, month_first: false })
    expect(field.validity.valid).toBe(true)
    await shown.rerender({ modelValue: '2027-03-31' })
    expect(screen.getByText(/Wednesday,? 31 March 2027, to the end of that day/)).toBeTruthy()
  })

  it('says what is wrong with what is no day, and sends nothing', async () => {
    asked.mockRejectedValue(new CallFailed({ type: 'x', title: 'Bad', status: 400, detail: "'soon' is not a day.", remedy: 'Write it like: 31 Mar.' } as never, 400))
    const { field, picked } = show()
    await fireEvent.update(field, 'soon')
    await waitFor(() => expect(screen.getByText("'soon' is not a day. Write it like: 31 Mar.")).toBeTruthy())
    expect(field.validity.valid).toBe(false)
    expect(picked()).toBeUndefined()
  })
})
