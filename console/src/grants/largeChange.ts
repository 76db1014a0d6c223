import { ref } from 'vue'

import { CallFailed, get, send } from '@/service/api'
import { proving } from '@/identity/proof'
import type { ChangeLine } from '@/service/types'

/** A change of more grants than one call has time for: the worker makes it. */
export interface LargeChange {
  id: string
  only_preview: boolean
  state: 'waiting' | 'under_way' | 'done' | 'stopped' | 'failed'
  grants: number
  done: number
  changed: number
  refused: number
  lines: ChangeLine[]
  problem: string
}

const MILLISECONDS = 700

/** Whether a call failed because it was of too much for one call. */
export const isTooLarge = (error: unknown): boolean => error instanceof CallFailed && (error.problem.type ?? '').endsWith(':too-large')

/** What came of a change that has ended, in a sentence. */
export function told(change: LargeChange): string {
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
    underWay.value = begun
    try {
      while (underWay.value.state === 'waiting' || underWay.value.state === 'under_way') {
        await new Promise((resolve) => setTimeout(resolve, MILLISECONDS))
        underWay.value = await get<LargeChange>(`/changes/large/${begun.id}`)
      }
      return underWay.value
    } finally {
      underWay.value = null
    }
  }

  const look = async (wish: object): Promise<LargeChange> =>
    followed(await send<LargeChange>('POST', '/changes/large', { ...wish, only_preview: true }))
  const make = async (wish: object, seen: string): Promise<LargeChange> =>
    followed(await proving(() => send<LargeChange>('POST', '/changes/large', { ...wish, seen })))
  const stop = async (): Promise<void> => {
    if (underWay.value) await send('POST', `/changes/large/${underWay.value.id}/stop`, {})
  }
  return { underWay, look, make, stop }
}
