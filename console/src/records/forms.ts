import { gettext, ngettext } from '@/frame/language'

/** The forms of records: their fields, in the order in which one fills them in. */

export type Reads = 'text' | 'long' | 'email' | 'emails' | 'yes' | 'day' | 'choice' | 'number' | 'one' | 'many' | 'marks' | 'logins' | 'payer' | 'zone'

export interface Field {
  name: string
  label: string
  reads: Reads
  help?: string
  required?: boolean
  /** The list that the record named is picked from. */
  of?: string
  choices?: [string | number, string][]
  /** Can't be changed once the record is there. */
  fixed?: boolean
  /** Only shown while this holds of the values. */
  when?: (values: Values) => boolean
}
export type Values = Record<string, unknown>
export type KindOfRecord = 'people' | 'teams' | 'memberships' | 'accounts' | 'resources' | 'groups' | 'apps'

/** What adding a record of a kind is called. */
export const ADD: Record<KindOfRecord, string> = {
  people: gettext('Add a person'),
  teams: gettext('Add a team'),
  memberships: gettext('Add a membership'),
  accounts: gettext('Add an account'),
  resources: gettext('Add a part'),
  groups: gettext('Add a group'),
  apps: gettext('Add an app'),
}

/** The button that adds it. */
export const ADD_THIS: Record<KindOfRecord, string> = {
  people: gettext('Add the person'),
  teams: gettext('Add the team'),
  memberships: gettext('Add the membership'),
  accounts: gettext('Add the account'),
  resources: gettext('Add the part'),
  groups: gettext('Add the group'),
  apps: gettext('Add the app'),
}

/** What changing several at once is called. */
export function changeMany(kind: KindOfRecord, n: number): string {
  if (kind === 'people') return ngettext('Change %{n} person', 'Change %{n} people', n)
  if (kind === 'accounts') return ngettext('Change %{n} account', 'Change %{n} accounts', n)
  return ngettext('Change %{n} record', 'Change %{n} records', n)
}

export const FORMS: Record<KindOfRecord, Field[]> = {
  people: [
    { name: 'name', label: gettext('Name'), reads: 'text', required: true },
    { name: 'address', label: gettext('E-mail address'), reads: 'email', help: gettext('Where offers and notices are sent.') },
    { name: 'other_addresses', label: gettext('Other addresses'), reads: 'emails', help: gettext('One on each line.') },
    { name: 'job', label: gettext('Job'), reads: 'text' },
    { name: 'inside', label: gettext('Inside the organisation'), reads: 'yes', help: gettext('Untick for wardens, contractors and partners.') },
    { name: 'manager', label: gettext('Manager'), reads: 'one', of: 'people' },
    { name: 'standing', label: gettext('Standing'), reads: 'choice', choices: [['current', gettext('current')], ['leaving', gettext('leaving')], ['left', gettext('left')]] },
    { name: 'leaves_on', label: gettext('Last day'), reads: 'day', when: (values) => values.standing !== 'current' },
    { name: 'marks', label: gettext('How systems tell them'), reads: 'marks' },
    { name: 'logins', label: gettext('Logins'), reads: 'logins' },
  ],
  teams: [
    { name: 'name', label: gettext('Name'), reads: 'text', required: true },
    { name: 'purpose', label: gettext('Purpose'), reads: 'long' },
    { name: 'partner', label: gettext('A partner organisation'), reads: 'yes' },
    { name: 'speaker', label: gettext('Who answers offers to it'), reads: 'one', of: 'people' },
  ],
  memberships: [
    { name: 'person', label: gettext('Person'), reads: 'one', of: 'people', fixed: true, when: (values) => !values.member_team },
    { name: 'member_team', label: gettext('Or a team'), reads: 'one', of: 'teams', fixed: true, when: (values) => !values.person },
    { name: 'last_day', label: gettext('Last day'), reads: 'day', help: gettext('Empty: no end.') },
  ],
  accounts: [
    { name: 'name', label: gettext('Name'), reads: 'text', required: true },
    { name: 'system', label: gettext('System'), reads: 'one', of: 'systems', required: true, fixed: true, help: gettext('Where the account is.') },
    { name: 'kind', label: gettext('Kind'), reads: 'text', help: gettext('Such as mailbox, database or ledger.') },
    { name: 'sensitivity', label: gettext('Sensitivity'), reads: 'choice', choices: [[1, gettext('low')], [2, gettext('medium')], [3, gettext('high')], [4, gettext('critical')]] },
    { name: 'owner', label: gettext('Owner'), reads: 'one', of: 'people' },
    { name: 'purpose', label: gettext('Purpose'), reads: 'long' },
    { name: 'time_zone', label: gettext('Time zone'), reads: 'zone', help: gettext('Empty: the organisation’s.') },
    { name: 'handle', label: gettext('Its name in the system'), reads: 'text', help: gettext('As the system itself writes it; needed to find it in a reading.') },
    { name: 'payer', label: gettext('Who pays for it'), reads: 'payer' },
    { name: 'paid_until', label: gettext('Paid until the end of'), reads: 'day' },
    { name: 'is_closed', label: gettext('Closed to sharing: nobody can be given anything on it'), reads: 'yes' },
  ],
  resources: [
    { name: 'name', label: gettext('Name'), reads: 'text', required: true },
    { name: 'kind', label: gettext('Kind'), reads: 'text', help: gettext('Such as folder, schema or page.') },
  ],
  groups: [
    { name: 'name', label: gettext('Name'), reads: 'text', required: true },
    { name: 'resources', label: gettext('Parts in it'), reads: 'many', of: 'resources' },
  ],
  apps: [
    { name: 'name', label: gettext('Name'), reads: 'text', required: true },
    { name: 'publisher', label: gettext('Publisher'), reads: 'text' },
    { name: 'home_page', label: gettext('Home page'), reads: 'text', help: gettext('Beginning with https://') },
    { name: 'purpose', label: gettext('Purpose'), reads: 'long' },
    { name: 'logins', label: gettext('Logins'), reads: 'logins' },
  ],
}

export function fresh(kind: KindOfRecord): Values {
  const empty: Values = {}
  for (const field of FORMS[kind]) {
    if (['emails', 'many', 'marks', 'logins'].includes(field.reads)) empty[field.name] = []
    else if (field.reads === 'yes') empty[field.name] = field.name === 'inside'
    else if (field.reads === 'choice') empty[field.name] = field.name === 'sensitivity' ? 2 : field.choices![0]![0]
    else empty[field.name] = field.reads === 'text' || field.reads === 'long' ? '' : null
  }
  if (kind === 'accounts') Object.assign(empty, { kind: 'account', handle: null })
  if (kind === 'resources') empty.kind = 'part'
  return empty
}

/** What differs between two sets of values: what an edit sends. */
export function changed(before: Values, after: Values): Values {
  const found: Values = {}
  for (const [name, value] of Object.entries(after)) {
    if (JSON.stringify(value) !== JSON.stringify(before[name])) found[name] = value === '' ? null : value
  }
  return found
}

/** A value in words, with the names of what it names. */
export function shown(value: unknown, named: Record<string, string> = {}): string {
  if (value === null || value === undefined || value === '') return gettext('nothing')
  if (typeof value === 'boolean') return value ? gettext('yes') : gettext('no')
  if (Array.isArray(value)) return value.length ? value.map((one) => shown(one, named)).join(', ') : gettext('nothing')
  if (typeof value === 'object') return Object.values(value).map((one) => shown(one, named)).join(' ')
  return named[String(value)] ?? String(value)
}
