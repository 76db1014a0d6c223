/** Calls to the service. */

import { gettext } from '@/frame/language'
import { whileBusy } from './busy'
import type { Answer, Method } from './paths'
import type { Problem } from './types'

const PREFIX = '/api/v1'
let csrf = ''

export class CallFailed extends Error {
  constructor(
    readonly problem: Problem,
    readonly status: number,
  ) {
    super(problem.detail)
  }
}

/** What is wrong with which field of what was sent; nothing for other failures. */
export function faultsOf(failed: unknown): Record<string, string> {
  return failed instanceof CallFailed ? (failed.problem.fields ?? {}) : {}
}

/** Keep the token that calls which change something have to carry. */
export function keepCsrf(token: string): void {
  csrf = token
}

export type Query = Record<string, string | number | boolean | undefined>

function address(path: string, query: Query = {}): string {
  const given = Object.entries(query).filter(([, value]) => value !== undefined && value !== '' && value !== false)
  const search = new URLSearchParams(given.map(([name, value]) => [name, String(value)])).toString()
  return PREFIX + path + (search ? `?${search}` : '')
}

async function answer<T>(response: Response): Promise<T> {
  if (response.ok) return (await response.json()) as T
  const isProblem = response.headers.get('Content-Type')?.startsWith('application/problem+json')
  const problem: Problem = isProblem
    ? await response.json()
    : { title: response.statusText, detail: gettext('The service answered %{status}.', { status: response.status }), remedy: '', fields: {} }
  throw new CallFailed(problem, response.status)
}

/** How long a call is sent again where the service asks for that. */
const PATIENCE_MS = 30_000

/** A call that is refused for now (503 with Retry-After), with nothing done, is sent again when it may be. */
async function reach(input: string, options: RequestInit): Promise<Response> {
  const until = Date.now() + PATIENCE_MS
  for (;;) {
    const response = await reachOnce(input, options)
    const wait = response.status === 503 ? Number(response.headers.get('Retry-After')) * 1000 : 0
    if (!wait || Date.now() + wait > until) return response
    await new Promise((resolve) => setTimeout(resolve, wait))
  }
}

async function reachOnce(input: string, options: RequestInit): Promise<Response> {
  try {
    return await fetch(input, options)
  } catch {
    const detail = gettext('The service does not answer.')
    const problem = { title: gettext('No answer'), detail, remedy: gettext('It will be tried again when it is back.'), fields: {}, request_id: '', passkey: null }
    throw new CallFailed(problem, 0)
  }
}

/** Read something whose path is documented. */
export function get<Path extends `/${string}`>(path: Path, query?: Query): Promise<Answer<'GET', Path>> {
  return getAs(path, query)
}

/** Read something whose path is put together while the program runs: what comes back, the caller says. */
export async function getAs<T>(path: string, query?: Query): Promise<T> {
  return answer<T>(await reach(address(path, query), { headers: { Accept: 'application/json' } }))
}

/** How long a call whose outcome is not known may be sent again under the same key. */
const INTENT_MS = 10 * 60_000
const intents = new Map<string, { key: string; since: number }>()

/** Whether a failure leaves open what became of the call, or asks for a proof and for the call once more. */
function isOpen(failed: unknown): boolean {
  if (!(failed instanceof CallFailed)) return true
  return failed.status === 0 || failed.status >= 500 || failed.problem.type?.endsWith(':proof-needed') === true
}

/** A digest of a call: what was sent may be a password, and is not kept. */
async function digest(call: string): Promise<string> {
  const hashed = await crypto.subtle.digest('SHA-256', new TextEncoder().encode(call))
  return Array.from(new Uint8Array(hashed), (byte) => byte.toString(16).padStart(2, '0')).join('')
}

/** The key of an intent: the same call gets the same one until its outcome is known. */
function keyOf(intent: string): string {
  const now = Date.now()
  for (const [other, { since }] of intents) if (now - since >= INTENT_MS) intents.delete(other)
  const known = intents.get(intent) ?? { key: crypto.randomUUID(), since: now }
  intents.set(intent, known)
  return known.key
}

/**
 * Change something. What is sent again, by a second click, after a lost answer or after a proof, is carried out once:
 * it goes under the same key until the service has answered it.
 */
export function send<M extends Method, Path extends `/${string}`>(
  method: M,
  path: Path,
  body?: unknown,
  headers: Record<string, string> = {},
): Promise<Answer<M, Path>> {
  return sendAs(method, path, body, headers)
}

/** The same where the path is put together while the program runs: what comes back, the caller says. */
export function sendAs<T>(method: Method, path: string, body?: unknown, headers: Record<string, string> = {}): Promise<T> {
  return path.endsWith('/preview') ? sendNow<T>(method, path, body, headers) : whileBusy(() => sendNow<T>(method, path, body, headers))
}

async function sendNow<T>(method: Method, path: string, body: unknown, headers: Record<string, string>): Promise<T> {
  const more: Record<string, string> = { 'X-CSRF-Token': csrf, ...headers }
  const written = body === undefined ? undefined : JSON.stringify(body)
  const hasKey = method === 'POST' && written !== undefined
  const intent = hasKey ? await digest(`${path} ${headers['If-Match'] ?? ''} ${written}`) : ''
  if (hasKey) more['Idempotency-Key'] = keyOf(intent)
  if (body !== undefined) more['Content-Type'] = 'application/json'
  try {
    const found = await answer<T>(await reach(address(path), { method, headers: more, body: written }))
    intents.delete(intent)
    return found
  } catch (failed) {
    if (!isOpen(failed)) intents.delete(intent)
    throw failed
  }
}

/** Send a file as it is. */
export async function sendFile<T>(path: string, query: Query, file: Blob): Promise<T> {
  const headers = { 'X-CSRF-Token': csrf, 'Content-Type': 'application/octet-stream' }
  return whileBusy(async () => answer<T>(await reach(address(path, query), { method: 'POST', headers, body: file })))
}

/** Sends a file, and gives the text that comes back: another file. */
export async function takeFile(path: string, query: Query, file: Blob): Promise<string> {
  const headers = { 'X-CSRF-Token': csrf, 'Content-Type': 'application/octet-stream' }
  const response = await reach(address(path, query), { method: 'POST', headers, body: file })
  return response.ok ? response.text() : answer<string>(response)
}

/** Reads a file that the service writes. */
export async function getText(path: string): Promise<string> {
  const response = await reach(address(path), {})
  return response.ok ? response.text() : answer<string>(response)
}
