/** Calls to the service. */

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
    : { title: response.statusText, detail: `The service answered ${response.status}.`, remedy: '', fields: {} }
  throw new CallFailed(problem, response.status)
}

async function reach(input: string, options: RequestInit): Promise<Response> {
  try {
    return await fetch(input, options)
  } catch {
    const detail = 'The service does not answer.'
    const problem = { title: 'No answer', detail, remedy: 'It will be tried again when it is back.', fields: {} }
    throw new CallFailed(problem, 0)
  }
}

/** Read something. */
export async function get<T>(path: string, query?: Query): Promise<T> {
  return answer<T>(await reach(address(path, query), { headers: { Accept: 'application/json' } }))
}

/** Change something. Sending it again by mistake is carried out once. */
export async function send<T>(method: string, path: string, body?: unknown, headers: Record<string, string> = {}): Promise<T> {
  const more: Record<string, string> = { 'X-CSRF-Token': csrf, ...headers }
  if (method === 'POST' && body !== undefined) more['Idempotency-Key'] = crypto.randomUUID()
  if (body !== undefined) more['Content-Type'] = 'application/json'
  return answer<T>(
    await reach(address(path), { method, headers: more, body: body === undefined ? undefined : JSON.stringify(body) }),
  )
}

/** Send a file as it is. */
export async function sendFile<T>(path: string, query: Query, file: Blob): Promise<T> {
  const headers = { 'X-CSRF-Token': csrf, 'Content-Type': 'application/octet-stream' }
  return answer<T>(await reach(address(path, query), { method: 'POST', headers, body: file }))
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
