/** The button that started a call which changes something is busy until the call is answered. */

let pressed: HTMLElement | null = null

/** Watch which button was pressed last, and hold back presses of a busy one. */
export function watchButtons(root: Document = document): void {
  const press = (event: Event) => {
    const target = event.type === 'submit' ? (event as SubmitEvent).submitter : (event.target as Element | null)?.closest('button')
    if (!(target instanceof HTMLElement)) return
    if (target.ariaBusy === 'true') {
      event.preventDefault()
      event.stopImmediatePropagation()
      return
    }
    pressed = target
    // A call that is not made at once was not started by this press.
    window.setTimeout(() => (pressed = pressed === target ? null : pressed))
  }
  root.addEventListener('click', press, true)
  root.addEventListener('submit', press, true)
}

/** Runs a call; the button that was just pressed, if any, is busy meanwhile. It keeps its focus. */
export async function whileBusy<T>(call: () => Promise<T>): Promise<T> {
  const button = pressed
  if (!button) return call()
  button.ariaBusy = 'true'
  try {
    return await call()
  } finally {
    button.ariaBusy = null
  }
}
