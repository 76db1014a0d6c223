/** Passkeys: what the browser is asked, and what it answers, in the form that the service sends and takes. */

import { gettext } from '@/frame/language'
import type { Ceremony } from '@/service/types'

export interface PasskeyAnswer {
  state: string
  credential: Record<string, unknown>
}

/** Where passkeys work: on pages of a host with a name. Elsewhere browsers have none. */
export const hasPasskeys = 'PublicKeyCredential' in window && !/^[\d.]+$|^\[/.test(window.location.hostname)

const HINTS: Record<string, string> = {
  NotAllowedError: gettext('It was cancelled, or took too long.'),
  InvalidStateError: gettext('This device has a passkey for you already.'),
  SecurityError: gettext('The browser allows no passkeys on this host.'),
}

/** What becomes of binary fields: they travel as base64url. */
const BINARY = new Set(['challenge', 'id', 'rawId', 'clientDataJSON', 'attestationObject', 'authenticatorData', 'signature', 'userHandle'])

function bytes(text: string): Uint8Array<ArrayBuffer> {
  return Uint8Array.from(atob(text.replace(/-/g, '+').replace(/_/g, '/')), (letter) => letter.charCodeAt(0))
}

function text(buffer: ArrayBuffer): string {
  return btoa(String.fromCharCode(...new Uint8Array(buffer))).replace(/\+/g, '-').replace(/\//g, '_').replace(/=+$/, '')
}

/** Options of the service with their binary fields as the browser takes them; the domain's own id is a word. */
function decoded(value: unknown, field = '', parent = ''): unknown {
  if (Array.isArray(value)) return value.map((one) => decoded(one, '', field))
  if (value && typeof value === 'object') return Object.fromEntries(Object.entries(value).map(([name, one]) => [name, decoded(one, name, field || parent)]))
  return typeof value === 'string' && BINARY.has(field) && parent !== 'rp' ? bytes(value) : value
}

function encoded(found: Credential | null, state: string): PasskeyAnswer {
  if (!(found instanceof PublicKeyCredential)) throw new Error(gettext('The browser gave no passkey.'))
  const given = found.response as AuthenticatorResponse & Partial<AuthenticatorAttestationResponse & AuthenticatorAssertionResponse>
  const response: Record<string, unknown> = { clientDataJSON: text(given.clientDataJSON) }
  if (given.attestationObject) Object.assign(response, { attestationObject: text(given.attestationObject), transports: given.getTransports?.() ?? [] })
  if (given.authenticatorData) response.authenticatorData = text(given.authenticatorData)
  if (given.signature) response.signature = text(given.signature)
  if (given.userHandle) response.userHandle = text(given.userHandle)
  return { state, credential: { id: found.id, rawId: text(found.rawId), type: found.type, response, clientExtensionResults: {} } }
}

async function asked(call: Promise<Credential | null>, state: string): Promise<PasskeyAnswer> {
  try {
    return encoded(await call, state)
  } catch (failed) {
    throw failed instanceof DOMException ? new Error(HINTS[failed.name] ?? failed.message) : failed
  }
}

/** Ask the browser for one of the passkeys that it has for us. */
export function usePasskey(ceremony: Ceremony): Promise<PasskeyAnswer> {
  const publicKey = decoded(ceremony.options) as PublicKeyCredentialRequestOptions
  return asked(navigator.credentials.get({ publicKey }), ceremony.state)
}

/** Have the browser make a passkey. */
export function makePasskey(ceremony: Ceremony): Promise<PasskeyAnswer> {
  const publicKey = decoded(ceremony.options) as PublicKeyCredentialCreationOptions
  return asked(navigator.credentials.create({ publicKey }), ceremony.state)
}
