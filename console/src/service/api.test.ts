import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'

import { CallFailed, get, keepCsrf, send } from './api'

const fetched = vi.fn<typeof fetch>()

function answers(body: unknown, status = 200, type = 'application/json'): void {
  fetched.mockResolvedValue(new Response(JSON.stringify(body), { status, headers: { 'Content-Type': type } }))
}

function sent(): { url: string; headers: Record<string, string>; body: string } {
  const [url, options] = fetched.mock.calls[0] as [string, RequestInit & { headers: Record<string, string> }]
  return { url, headers: options.headers, body: String(options.body) }
}

beforeEach(() => vi.stubGlobal('fetch', fetched))
afterEach(() => {
  fetched.mockReset()
  vi.unstubAllGlobals()
})

describe('get', () => {
  it('leaves out what was not asked for, and encodes the rest', async () => {
    answers({ rows: [] })
    await get('/grants', { filter: 'name eq "a&b"', search: '', sort: undefined, count: false, limit: 30 })
    expect(sent().url).toBe('/api/v1/grants?filter=name+eq+%22a%26b%22&limit=30')
  })
})

describe('send', () => {
  it('carries the token against forged calls, and a key of its own each time', async () => {
    keepCsrf('secret')
    answers({})
    await send('POST', '/rounds', { name: 'x' }, { 'If-Match': '"3"' })
    const first = sent().headers
    expect(first['X-CSRF-Token']).toBe('secret')
    expect(first['If-Match']).toBe('"3"')
    fetched.mockReset()
    answers({})
    await send('POST', '/rounds', { name: 'x' })
    expect(sent().headers['Idempotency-Key']).not.toBe(first['Idempotency-Key'])
  })
  it('keeps the key while nobody knows what became of the call, and through a proof', async () => {
    const intent = async (): Promise<string> => {
      fetched.mockClear()
      await send('POST', '/revocations', { reason: 'left' }).catch(() => undefined)
      return sent().headers['Idempotency-Key'] ?? ''
    }
    fetched.mockRejectedValueOnce(new TypeError('network'))
    const first = await intent()
    answers({ type: 'urn:openlatch:proof-needed', detail: 'Prove it.' }, 403, 'application/problem+json')
    expect(await intent()).toBe(first)
    answers({ detail: 'Try later.' }, 503, 'application/problem+json')
    expect(await intent()).toBe(first)
    answers({})
    expect(await intent()).toBe(first)
    answers({})
    expect(await intent()).not.toBe(first)
  })
  it('takes another key once the service has refused the call', async () => {
    answers({ detail: 'It is closed.' }, 409, 'application/problem+json')
    await send('POST', '/rounds', { name: 'y' }).catch(() => undefined)
    const first = sent().headers['Idempotency-Key']
    fetched.mockClear()
    answers({})
    await send('POST', '/rounds', { name: 'y' })
    expect(sent().headers['Idempotency-Key']).not.toBe(first)
  })
  it('sends no key where there is nothing to repeat', async () => {
    answers({})
    await send('DELETE', '/session')
    expect(sent().headers['Idempotency-Key']).toBeUndefined()
  })
})

describe('a service that asks for patience', () => {
  it('gets the same call again when it said, under the same key, for half a minute', async () => {
    vi.useFakeTimers()
    try {
      const busy = (): Response => new Response('{"detail": "Busy."}', { status: 503, headers: { 'Retry-After': '2', 'Content-Type': 'application/problem+json' } })
      fetched.mockResolvedValueOnce(busy()).mockResolvedValueOnce(busy()).mockResolvedValueOnce(new Response('{"id": "1"}'))
      const made = send('POST', '/rounds', { name: 'z' })
      // The digest is worked out elsewhere, whose time is not this clock's.
      await vi.waitFor(() => expect(fetched).toHaveBeenCalledOnce())
      await vi.advanceTimersByTimeAsync(4000)
      expect(await made).toEqual({ id: '1' })
      const keys = fetched.mock.calls.map(([, options]) => (options?.headers as Record<string, string>)['Idempotency-Key'])
      expect([keys.length, new Set(keys).size]).toEqual([3, 1])
      fetched.mockReset()
      fetched.mockImplementation(() => Promise.resolve(busy()))
      const failed = get('/rounds').catch((error: unknown) => error)
      await vi.advanceTimersByTimeAsync(40_000)
      expect(((await failed) as CallFailed).status).toBe(503)
      expect(fetched.mock.calls.length).toBeLessThan(17)
    } finally {
      vi.useRealTimers()
    }
  })
})

describe('failures', () => {
  it('come with the sentence of the problem, and what to do', async () => {
    answers({ title: 'No', detail: 'It is closed.', remedy: 'Open another.', fields: {} }, 409, 'application/problem+json')
    const failed = await get('/rounds').catch((error: unknown) => error)
    expect(failed).toBeInstanceOf(CallFailed)
    expect((failed as CallFailed).message).toBe('It is closed.')
    expect((failed as CallFailed).problem.remedy).toBe('Open another.')
  })
  it('are told apart from a service that does not answer', async () => {
    fetched.mockRejectedValue(new TypeError('network'))
    const failed = (await get('/rounds').catch((error: unknown) => error)) as CallFailed
    expect([failed.status, failed.message]).toEqual([0, 'The service does not answer.'])
  })
  it('are told even when what answers is something else', async () => {
    fetched.mockResolvedValue(new Response('<html>', { status: 502 }))
    const failed = (await get('/rounds').catch((error: unknown) => error)) as CallFailed
    expect(failed.message).toContain('502')
  })
})
