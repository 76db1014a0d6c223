import { ref } from 'vue'

import { CallFailed, get, send } from '@/service/api'
import { proving } from '@/identity/proof'
import type { LargeChange } from '@/service/types'

const MILLISECONDS = 700

/** Whether a call failed because it was of too much for one call. */
export const isTooLarge = (error: unknown): boolean => error instanceof CallFailed && (error.problem.type ?? '').endsWith(':too-large')

/** What came of a change that has ended, in a sentence. */
export function told(change: Pick<LargeChange, 'lines' | 'done' | 'state' | 'grants' | 'changed' | 'refused' | 'only_preview' | 'problem'>): string {
  const shown = change.lines.length < change.done ? ` The list shows ${change.lines.length} of them.` : ''
  if (change.state === 'failed') return `It broke off after ${change.done} of ${change.grants} grants. ${change.problem}`
  if (change.only_preview) {
    return change.state === 'stopped' ? `Stopped after ${change.done} of ${change.grants} grants. Nothing was changed.` : `${change.changed} of ${change.grants} grants would change, ${change.refused} are refused.${shown}`
  }
  const what = `${change.changed} of ${change.grants} grants changed, ${change.refused} refused.${shown}`
  return change.state === 'stopped' ? `Stopped. ${what}` : what
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
