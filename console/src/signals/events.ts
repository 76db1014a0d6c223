import { gettext } from '@/frame/language'

const words: Record<string, string> = {
  'session-revoked': gettext('a session was revoked'),
  'credential-change': gettext('a credential was changed'),
  'assurance-level-change': gettext('signing in became weaker or stronger'),
  'device-compliance-change': gettext('a device complies no more, or again'),
  'account-disabled': gettext('the account was disabled'),
  'account-enabled': gettext('the account was enabled'),
  'account-purged': gettext('the account was deleted'),
  'credential-compromise': gettext('a credential is known to others'),
}

/** A type of event as people say it; one that is not known here by its own name. */
export function eventWords(event: string): string {
  const name = event.slice(event.lastIndexOf('/') + 1)
  return words[name] ?? name
}

/** What an event makes happen. */
export const reactionWords = {
  ignore: gettext('only note it'),
  tell: gettext('tell administrators'),
  flag: gettext('flag what they hold'),
  end_sessions: gettext('end their sessions here'),
  end_access: gettext('end all their access'),
}
