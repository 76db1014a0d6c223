import { gettext } from '@/frame/language'

const words: Record<string, string> = {
  'session-revoked': gettext('a session was revoked'),
  'credential-change': gettext('a credential was changed'),
  'assurance-level-change': gettext('the way of signing in became weaker or stronger'),
  'device-compliance-change': gettext('whether a device complies has changed'),
  'account-disabled': gettext('the account was disabled'),
  'account-enabled': gettext('the account was enabled'),
  'account-purged': gettext('the account was deleted'),
  verification: gettext('a test of the stream'),
  'stream-updated': gettext('the stream was paused or resumed'),
  'credential-compromise': gettext('a credential was compromised'),
}

/** A type of event as people say it; one that is not known here by its own name. */
export function eventWords(event: string): string {
  const name = event.slice(event.lastIndexOf('/') + 1)
  return words[name] ?? name
}

/** What an event makes happen. */
export const reactionWords = {
  ignore: gettext('only record it'),
  notify: gettext('notify administrators'),
  flag: gettext('flag everything that they hold'),
  end_sessions: gettext('end their sessions here'),
  end_access: gettext('end all their access'),
}

/** What happens with the events of a receiver. */
export const statusWords = {
  not_set_up: gettext('has not made a stream yet'),
  enabled: gettext('gets events'),
  paused: gettext('paused'),
  disabled: gettext('switched off by the receiver'),
}
