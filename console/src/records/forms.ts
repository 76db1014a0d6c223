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

export const NOUNS: Record<KindOfRecord, string> = {
  people: 'person', teams: 'team', memberships: 'membership', accounts: 'account', resources: 'part', groups: 'group', apps: 'app',
}

export const FORMS: Record<KindOfRecord, Field[]> = {
  people: [
    { name: 'name', label: 'Name', reads: 'text', required: true },
    { name: 'address', label: 'E-mail address', reads: 'email', help: 'Where offers and notices are sent.' },
    { name: 'other_addresses', label: 'Other addresses', reads: 'emails', help: 'One on each line.' },
    { name: 'job', label: 'Job', reads: 'text' },
    { name: 'inside', label: 'Inside the organisation', reads: 'yes', help: 'Untick for wardens, contractors and partners.' },
    { name: 'manager', label: 'Manager', reads: 'one', of: 'people' },
    { name: 'standing', label: 'Standing', reads: 'choice', choices: [['current', 'current'], ['leaving', 'leaving'], ['left', 'left']] },
    { name: 'leaves_on', label: 'Last day', reads: 'day', when: (values) => values.standing !== 'current' },
    { name: 'marks', label: 'How systems tell them', reads: 'marks' },
    { name: 'logins', label: 'Logins', reads: 'logins' },
  ],
  teams: [
    { name: 'name', label: 'Name', reads: 'text', required: true },
    { name: 'purpose', label: 'Purpose', reads: 'long' },
    { name: 'partner', label: 'A partner organisation', reads: 'yes' },
    { name: 'speaker', label: 'Who answers offers to it', reads: 'one', of: 'people' },
  ],
  memberships: [
    { name: 'person', label: 'Person', reads: 'one', of: 'people', fixed: true, when: (values) => !values.member_team },
    { name: 'member_team', label: 'Or a team', reads: 'one', of: 'teams', fixed: true, when: (values) => !values.person },
    { name: 'last_day', label: 'Last day', reads: 'day', help: 'Empty: no end.' },
  ],
  accounts: [
    { name: 'name', label: 'Name', reads: 'text', required: true },
    { name: 'system', label: 'System', reads: 'one', of: 'systems', required: true, fixed: true, help: 'Where the account is.' },
    { name: 'kind', label: 'Kind', reads: 'text', help: 'Such as mailbox, database or ledger.' },
    { name: 'sensitivity', label: 'Sensitivity', reads: 'choice', choices: [[1, 'low'], [2, 'medium'], [3, 'high'], [4, 'critical']] },
    { name: 'owner', label: 'Owner', reads: 'one', of: 'people' },
    { name: 'purpose', label: 'Purpose', reads: 'long' },
    { name: 'time_zone', label: 'Time zone', reads: 'zone', help: 'Empty: the organisation’s.' },
    { name: 'handle', label: 'Its name in the system', reads: 'text', help: 'As the system itself writes it; needed to find it in a reading.' },
    { name: 'payer', label: 'Who pays for it', reads: 'payer' },
    { name: 'paid_until', label: 'Paid until the end of', reads: 'day' },
    { name: 'is_closed', label: 'Closed to sharing: nobody can be given anything on it', reads: 'yes' },
  ],
  resources: [
    { name: 'name', label: 'Name', reads: 'text', required: true },
    { name: 'kind', label: 'Kind', reads: 'text', help: 'Such as folder, schema or page.' },
  ],
  groups: [
    { name: 'name', label: 'Name', reads: 'text', required: true },
    { name: 'resources', label: 'Parts in it', reads: 'many', of: 'resources' },
  ],
  apps: [
    { name: 'name', label: 'Name', reads: 'text', required: true },
    { name: 'publisher', label: 'Publisher', reads: 'text' },
    { name: 'home_page', label: 'Home page', reads: 'text', help: 'Beginning with https://' },
    { name: 'purpose', label: 'Purpose', reads: 'long' },
    { name: 'logins', label: 'Logins', reads: 'logins' },
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
  if (value === null || value === undefined || value === '') return 'nothing'
  if (typeof value === 'boolean') return value ? 'yes' : 'no'
  if (Array.isArray(value)) return value.length ? value.map((one) => shown(one, named)).join(', ') : 'nothing'
  if (typeof value === 'object') return Object.values(value).map((one) => shown(one, named)).join(' ')
  return named[String(value)] ?? String(value)
}
