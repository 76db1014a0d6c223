import { ref } from 'vue'

import { gettext } from '@/frame/language'
import { CallFailed, get, send } from '@/service/api'
import { proving } from '@/identity/proof'
import type { LargeChange } from '@/service/types'

/** What can be done to several grants at once. */
export const KINDS: [string, string][] = [
  ['set_end', gettext('Set or move the end')], ['set_level', gettext('Change the level')], ['suspend', gettext('Suspend')], ['resume', gettext('Resume')],
  ['replace', gettext('Hand to a successor')], ['end', gettext('End')], ['adopt', gettext('Record what nobody recorded')],
  ['restore', gettext('Give in the system again')], ['accept', gettext('Accept how the system departs')],
]

const MILLISECONDS = 700

/** Whether a call failed because it was of too much for one call. */
export const isTooLarge = (error: unknown): boolean => error instanceof CallFailed && (error.problem.type ?? '').endsWith(':too-large')

/** What came of a change that has ended, in a sentence; and how much of it a list below it shows, where there is one. */
export function told(change: Pick<LargeChange, 'lines' | 'done' | 'state' | 'grants' | 'changed' | 'refused' | 'only_preview' | 'problem'>, hasList = true): string {
  const shown = hasList && change.lines.length < change.done ? ` ${gettext('The list shows %{lines} of them.', { lines: change.lines.length })}` : ''
  if (change.state === 'failed') return gettext('It broke off after %{done} of %{grants} grants. %{problem}', { done: change.done, grants: change.grants, problem: change.problem })
  if (change.only_preview) {
    return change.state === 'stopped' ? gettext('Stopped after %{done} of %{grants} grants. Nothing was changed.', { done: change.done, grants: change.grants }) : gettext('%{changed} of %{grants} grants would change, %{refused} are refused.%{shown}', { changed: change.changed, grants: change.grants, refused: change.refused, shown })
  }
  const what = gettext('%{changed} of %{grants} grants changed, %{refused} refused.%{shown}', { changed: change.changed, grants: change.grants, refused: change.refused, shown })
  return change.state === 'stopped' ? gettext('Stopped. %{what}', { what }) : what
}

/** Asks for a large change, and follows how far it is. */
export function useLargeChange() {
  const underWay = ref<LargeChange | null>(null)

  async function followed(begun: LargeChange): Promise<LargeChange> {
    let change = (underWay.value = begun)
    try {
      while (change.state === 'waiting' || change.state === 'under_way') {
        await new Promise((resolve) => setTimeout(resolve, MILLISECONDS))
        change = underWay.value = await get(`/changes/large/${begun.id}`)
      }
      return change
    } finally {
      underWay.value = null
    }
  }

  const look = async (wish: object): Promise<LargeChange> =>
    followed(await send('POST', '/changes/large', { ...wish, only_preview: true }))
  const make = async (wish: object, seen: string): Promise<LargeChange> =>
    followed(await proving(() => send('POST', '/changes/large', { ...wish, seen })))
  const stop = async (): Promise<void> => {
    if (underWay.value) await send('POST', `/changes/large/${underWay.value.id}/stop`, {})
  }
  return { underWay, look, make, stop }
}
