// @vitest-environment happy-dom
import { expect, test } from 'vitest'

import { watchButtons, whileBusy } from './busy'

function pressedOnce(): { button: HTMLButtonElement; calls: (() => void)[] } {
  document.body.innerHTML = '<button>Save</button>'
  const button = document.querySelector('button')!
  const calls: (() => void)[] = []
  button.addEventListener('click', () => void whileBusy(() => new Promise<void>((done) => calls.push(done))))
  return { button, calls }
}

watchButtons()

test('the button that was pressed is busy until the call is answered, and a second press does nothing', async () => {
  const { button, calls } = pressedOnce()
  button.click()
  button.click()
  expect(button.ariaBusy).toBe('true')
  expect(calls).toHaveLength(1)
  calls[0]!()
  await new Promise((done) => setTimeout(done))
  expect(button.ariaBusy).toBe(null)
  button.click()
  expect(calls).toHaveLength(2)
})

test('a failed call frees its button, and a call that nobody pressed for has none', async () => {
  const { button } = pressedOnce()
  button.addEventListener('focus', () => undefined)
  await new Promise((done) => setTimeout(done))
  await expect(whileBusy(() => Promise.reject(new Error('no answer')))).rejects.toThrow('no answer')
  expect(button.ariaBusy).not.toBe('true')
})
