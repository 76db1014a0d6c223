/** A fresh proof that it is you: asked for when the service wants one, and the call made again. */

import { ref } from 'vue'

import { CallFailed, send } from '@/service/api'

interface Waiting {
  why: string
  done: (proved: boolean) => void
}

export const waiting = ref<Waiting | null>(null)

/** Make a call; where it needs a proof, have one given (see ProofDialog) and make it once more. */
export async function proving<T>(call: () => Promise<T>): Promise<T> {
  try {
    return await call()
  } catch (failed) {
    if (!(failed instanceof CallFailed && failed.problem.type?.endsWith(':proof-needed'))) throw failed
    const proved = await new Promise<boolean>((done) => (waiting.value = { why: failed.message, done }))
    waiting.value = null
    if (!proved) throw failed
    return call()
  }
}

export async function prove(password: string, code: string): Promise<void> {
  await send('POST', '/me/proof', { password, code })
}

/** Prove it by one of one's passkeys. */
export async function proveByPasskey(): Promise<void> {
  const { usePasskey } = await import('./passkeys')
  await send('POST', '/me/proof', { passkey: await usePasskey(await send('POST', '/me/proof/passkey')) })
}
