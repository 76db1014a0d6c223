/** What the service answers, as far as the console reads it. The reference is /api/v1/openapi.json. */

export interface Breach {
  latch: string
  kind: string
  mode: string
  fact: string
  remedy: string
}

export interface Problem {
  type?: string
  breaches?: Breach[]
  title: string
  detail: string
  remedy: string
  fields: Record<string, string>
}

export interface Named {
  id: string
  name: string
}

export interface Holder extends Named {
  kind: 'person' | 'team' | 'app' | 'account'
  inside: boolean | null
  standing: string | null
}

export interface AccountOf extends Named {
  sensitivity: number
}

export interface Rows<T> {
  rows: T[]
  next: string
  count: number | null
}

export interface Inside {
  account: Named
  owner: Named | null
  levels: string[]
  rights: string[]
  parts: string[]
  until: string | null
  last_day?: string | null
  reach: number
}

export interface Me {
  person: Named
  organisation: Named & { time_zone: string }
  administrator: boolean
  auditor: boolean
  preferences: { time_zone: string | null; locale: string | null; no_mail: string[] }
  owner: boolean
  reviewer: boolean
  notices: number
  elsewhere: number
  as_partner: boolean
  inside: Inside | null
  csrf: string
}

export interface AccountRow extends Named {
  kind: string
  purpose: string
  sensitivity: number
  system: Named & { kind: string }
  owner: Named | null
  grants: number
  holders: number
  sessions: number
  open_flags: number
  emergency_hours: number | null
  is_closed: boolean
  archived: boolean
  payer: string | null
  paid_until: string | null
  version: number
}

export interface Path {
  holder: Holder
  account: Named
  owns: boolean
  level: string
  sentence: string
  reach: number
  since: string | null
  until: string | null
  last_day?: string | null
  revoking: boolean
  left: boolean
  words: string
  hops: { kind: string; words: string; grant_id: string | null; holder: { kind: string; id: string; name: string } }[]
  grant_id: string | null
  recorded_by: string | null
  given_by: string | null
  given_at: string | null
  last_used_at: string | null
  recorded: boolean
  owed: string | null
  part: string | null
  hours: string
}

/** Something that a person does by hand in a system that nobody here can change. */
export interface TaskRow {
  id: string
  state: 'open' | 'done' | 'dropped'
  kind: 'give' | 'change' | 'take'
  sentence: string
  account: Named
  system: Named
  holder: string | null
  grant_id: string
  assigned_to: Named | null
  asked_at: string
  done_at: string | null
  done_by: string
  words: string
  version: number
}

export interface TermsNow {
  terms: {
    level: Named | null
    permission: string | null
    part: Named | null
    since: string | null
    until: string | null
    last_day: string | null
    hours: { days: number[]; begins: string; ends: string } | null
    words: string
  }[]
  version: number
}

export interface GrantRow extends Proved {
  id: string
  state: string
  ended_as: string | null
  account: AccountOf
  system: Named
  holder: Holder
  level: string | null
  sentence: string | null
  reach: number | null
  since: string | null
  until: string | null
  last_day?: string | null
  given_at: string
  given_by: Named | null
  reason: string
  last_used_at: string | null
  recorded: boolean
  missing_since: string | null
  drift: 'unrecorded' | 'missing' | 'changed' | null
  drift_accepted_until: string | null
  shown_level: string | null
  open_flags: number
  part: string | null
  emergency: boolean
  owed: string | null
  owed_answer: string
  version: number
}

export interface AccountPage extends AccountRow {
  answers_for: boolean
  paths: Path[]
  path_count: number
  holder_count: number
  app_count: number
  not_in_force: GrantRow[]
  parts: Part[]
  others: { name: string; reach: number; owns: boolean }[]
  prerequisites: string[]
  coverage: Coverage
  partial_since: string | null
}

export interface Coverage {
  looked_at: string[]
  not_looked_at: string[]
  unknown: string[]
}

export interface Part extends Named {
  kind: string
  group: boolean
  public: boolean
  resources: number
  holders: number
}

export interface PersonRow extends Named {
  address: string | null
  job: string
  inside: boolean
  standing: string
  leaves_at: string | null
  leaves_on: string | null
  recognised: boolean
  grants: number
  sessions: number
  open_flags: number
}

export interface PersonPage extends PersonRow {
  signs_in: boolean | null
  teams: (Named & { since: string | null; until: string | null })[]
  paths: Path[]
}

export interface AppRow extends Named {
  publisher: string
  home_page: string
  purpose: string
  links: number
  last_used_at: string | null
  open_flags: number
}

export interface AppPage extends AppRow {
  grants: GrantRow[]
}

export interface SessionRow extends Proved {
  id: string
  account: AccountOf
  holder: Holder
  device: string
  address: string
  place: string
  started_at: string
  last_seen_at: string
  ended_at: string | null
  ended_as: string | null
}

export interface FlagRow {
  id: string
  rule: string
  title: string
  remedy: string
  act: '' | 'revoke' | 'trim' | 'end_session'
  state: string
  severity: number
  score: number
  parts: Record<string, number>
  sentence: string
  subject: { kind: string; id: string }
  account: AccountOf | null
  holder: Holder
  raised_at: string
  worse_at: string | null
  assigned_to: Named | null
  accepted_by: Named | null
  accepted_reason: string | null
  accepted_until: string | null
}

export interface Place {
  kind: 'owner' | 'manager' | 'person' | 'team'
  id: string | null
  account_kind: string
}

export interface ReviewOf extends Named {
  scope: string
  covers: string[]
  acts: string
  reviewers: Place[]
  undecided: Record<string, string>
  second_from: number | null
  reminders: number[]
  closes_after: number | null
}

export interface RoundRow extends ReviewOf {
  state: 'open' | 'carrying_out' | 'closed'
  event: string
  opened_at: string
  opened_by: Named | null
  due_at: string
  closed_at: string | null
  ended_at: string | null
  items: number
  decided: number
  seconding: number
  kept: number
  trimmed: number
  revoked: number
  by_default: number
  left_undecided: number
  to_do: number
}

export interface ReviewerProgress {
  id: string | null
  name: string | null
  items: number
  left: number
  by_default: number
  by_others: number
  decided: number
  kept: number
  share_kept: number | null
  seconds_between: number | null
}

export interface RoundPage extends RoundRow {
  mine: number
  mine_left: number
  reviewers_progress: ReviewerProgress[]
}

export interface RoundProgress {
  by_reviewer: ReviewerProgress[]
  by_account: { name: string; items: number; decided: number }[]
  by_day: { day: string; decided: number; kept: number }[]
  late: number
  items: number
  opened_at: string
  due_at: string
}

export type Verdict = 'keep' | 'trim' | 'revoke'

/** What was frozen of an item. What is there depends on what kind of item it is. */
export interface ItemFacts {
  account: { id: string | null; name: string; sensitivity?: number }
  system?: Named
  holder?: { kind?: string; id: string; name: string; inside?: boolean; job?: string } | null
  sentence: string
  until?: string | null
  given_at?: string
  given_by?: Named | null
  reason?: string
  last_used_at?: string | null
  part?: string | null
  emergency?: boolean
  flags: { rule: string; severity: number; score: number; sentence: string }[]
  others?: string[]
  people?: { count: number; names: string[] }
  use?: { held: number; used: number; observed_since: string | null; permissions: Record<string, { last: string; days: number }> }
  last_decision?: { verdict: Verdict; reason: string; by: string | null; at: string; round: string; fate: string | null } | null
  peers?: { job: string; people: number; have: number } | null
  recommendation: { verdict: Verdict; reason: string; level: Named | null; until: string | null }
}

export interface ItemRow extends Proved {
  id: string
  round_id: string
  position: number
  kind: 'grant' | 'link' | 'session' | 'exposure' | 'ownership' | 'latch' | 'acceptance'
  subject_id: string
  grant_id: string | null
  account: Named | null
  holder: { name: string }
  level: string
  reach: number | null
  recommended: Verdict
  flagged: number
  severity: number
  facts: ItemFacts
  changes: string[]
  grant_state: string | null
  state: 'undecided' | 'seconding' | 'decided'
  verdict: Verdict | null
  reason: string
  trim_until: string | null
  trim_to_use: boolean
  trim_level: Named | null
  successor: Named | null
  reviewer: Named | null
  reviewer_team: Named | null
  assigned_as: string
  needs_second: boolean
  second: Named | null
  decided_by: Named | null
  seconded_by: Named | null
  fate: string | null
  revocation_id: string | null
  offer_id: string | null
  draft_id: string | null
  outcome: string
  explained: string
  done_at: string | null
  question: { question: string; of: string; answer: string; answered_at: string | null } | null
  version: number
}

export interface QuestionRow {
  id: string
  round: Named
  account: { name: string }
  level: string
  asked_by: Named | null
  person: Named | null
  question: string
  answer: string
  answered_at: string | null
  round_closed: boolean
}

export interface Permission {
  key: string
  sentence: string
  reach: number
}

export interface Preview {
  title: string
  changes: {
    holder: Holder
    account: Named
    ends: Permission[]
    remains: { words: string; level: string; reach: number; until: string | null; last_day?: string | null }[]
  }[]
  sessions: { id: string; holder: string; account: string }[]
  apps_that_stop: string[]
  without_owner: string[]
  stops: { kind: 'object' | 'job' | 'key' | 'others' | 'password'; sentence: string }[]
  unknown?: string[]
  undo_alone: boolean
  steps: { kind: string; sentence: string }[]
  fingerprint: string
}

export interface StepRow {
  id: string
  position: number
  kind: string
  sentence: string
  state: 'open' | 'waiting' | 'by_hand' | 'done' | 'skipped'
  tries: number
  answer: string
  next_try_at: string | null
  done_at: string | null
  done_by: string
  proof: Proof | null
}

export type Proof = 'confirmed' | 'stated' | 'unproved' | 'contradicted'
export type Ends = Record<Proof, number>

export interface Proved {
  proof: Proof | null
  proved_at: string | null
  proved_by: string
  proof_words: string
}

export interface End {
  kind: 'grant' | 'session' | 'exposure'
  what: string
  proof: Proof | null
  proved_at: string | null
  proved_by: string
  words: string
}

export interface RevocationRow extends Ends {
  id: string
  cause: string
  reason: string
  asked_by: Named | null
  created_at: string
  settled_at: string | null
  confirmed_at: string | null
  state: 'carrying_out' | 'waiting' | 'by_hand' | 'done' | 'undone' | Proof
  title: string
  steps_skipped: number
  undone_at: string | null
  leaver: Named | null
  steps: number
  steps_done: number
  targets: number
}

export interface RevocationPage extends RevocationRow {
  preview: Preview
  step_list: StepRow[]
  ends: End[]
}

export interface SystemRow extends Named {
  kind: string
  read_at: string | null
  down_since: string | null
  answer: string
  accounts: number
  read_every: number
  next_read_at: string | null
  reading_since: string | null
  paused_at: string | null
  reading_seen: number
  unrecorded: number
  missing: number
  changed: number
  doubts: number
  matching: [string, boolean][]
  coverage: Partial<Coverage>
}

export interface Doubt {
  id: string
  login: string
  called: string
  system: Named
  marks: Record<string, string>
  locked: boolean
  grants: number
  candidates: (Named & { address: string | null; job: string; by: string })[]
}

export interface Undone {
  title: string
  lines: { grant_id: string; holder: string; account: Named; does: string; refused: string | null; offer_id: string | null }[]
  also: string[]
}

export interface LeavingPreview {
  person: Named
  standing: string
  accounts: { account: Named; sensitivity: number; why: string; owned: boolean; suggested: Named[]; successor: Named | null }[]
  logins: (Named & { system: Named; locked: boolean; lockable: boolean; droppable: boolean })[]
  teams: string[]
  speaks_for: string[]
  offers: number
  requests: number
  items: number
  revocation: Preview
  fingerprint: string
}

export interface LeavingPage {
  person: Named
  standing: string
  begun_at: string | null
  left: number
  all: number
  ends: Ends
  done_at: string | null
  systems: { system: string; all: number; left: number; ends: Ends; answer: string }[]
  lines: { system: string; kind: string; what: string; ended: boolean; at: string | null; proof: Proof | null; proved_by: string; answer: string }[]
  handed: { account: Named; to: Named; owned: boolean }[]
  remains: string[]
  unknown: string[]
  revocations: string[]
}

export interface JournalRow {
  position: number
  at: string
  actor: { id: string | null; name: string } | null
  action: string
  on_behalf_of: string | null
  subject: { kind: string; id: string | null; name: string } | null
  facts: Record<string, unknown>
  hash: string
}

export interface JournalVerdict {
  sound: boolean
  entries: number
  position: number
  hash: string
  faults: { position: number; what: string }[]
  vouched: number
}

export interface ImportReport {
  read: number
  added: number
  changed: number
  unchanged: number
  bad: number
  encoding: string
  kept: boolean
  errors: { line: number; field: string; reason: string }[]
  differences: { line: number; key: string; field: string; was: string; will: string }[]
  fresh: string[]
  latches: { latch: string; fact: string }[]
}

export interface Today {
  flags: {
    worst: FlagRow[]
    by_severity: Record<string, number>
    by_rule: { rule: string; title: string; count: number }[]
  }
  items_to_decide: number
  questions_to_answer: number
  offers_pending: number
  requests_pending: number
  rounds: RoundRow[]
  revocations: RevocationRow[]
  revocations_going_on: number
  ends: { week_begins: string; count: number }[]
  exposures: { open: number; unjudged: number; anyone_changes: number }
  systems_down: SystemRow[]
  counts: Record<string, number>
}

export interface Right {
  key: string
  sentence: string
  reach: number
}

export interface OfferedTo {
  holder: { kind: string; id: string | null; name: string }
  address: string
  inside: boolean
  known: boolean
  people: number
  can: Right[]
  adds: Right[]
  cannot: Right[]
  reach: number
  already: string[]
  latches: Breach[]
  meets: string[]
  prerequisites: { key: string; sentence: string; met: boolean }[]
  warnings: string[]
}

export interface OfferPreview {
  account: Named
  words: string
  offers: number
  terms: number
  resources: number
  needs_proof: boolean
  to: OfferedTo[]
  fingerprint: string
}

export interface OfferRow {
  id: string
  kind: 'access' | 'ownership'
  state: string
  account: AccountOf
  person: Named
  team: string | null
  address: string
  sender: Named | null
  level: string | null
  part: string | null
  reach: number | null
  until: string | null
  last_day?: string | null
  reason: string
  sent_at: string
  times_sent: number
  runs_out_at: string
  opened_at: string | null
  answered_at: string | null
  answer: string
  version: number
}

export interface OpenOffer {
  id: string
  kind: 'access' | 'ownership'
  version: number
  organisation: string
  account: Named
  person: Named
  holder: string
  sender: { name: string; address: string | null } | null
  reason: string
  runs_out_at: string
  has_sign_in: boolean
  signed_in: boolean
  lacking: string[]
  suggested_password: string
  words: string
  can: Right[]
  cannot: Right[]
  reach: number
  parts: string[]
  keeps: string | null
  since: string | null
  until: string | null
  last_day?: string | null
  hours: string
  purpose: string
}

export interface RequestRow {
  id: string
  state: string
  emergency: boolean
  extends: string | null
  person: Named & { inside: boolean }
  account: Named | null
  owner_address: string
  wanted: string
  level: Named | null
  reach: number | null
  until: string | null
  last_day?: string | null
  reason: string
  asked_at: string
  times_asked: number
  runs_out_at: string
  answered_by: Named | null
  answer: string
  version: number
}

export interface LevelRow extends Named {
  key: string
  sentence: string
  reach: number
  permissions: { key: string; sentence: string; reach: string }[]
  single: boolean
  archived: boolean
  grants: number
  version: number
  system: Named
}

export interface LevelPreview {
  grows: number
  shrinks: number
  effects: { holder: Named; account: Named; gains: Right[]; loses: Right[] }[]
  latches: Breach[]
  fingerprint: string
}

export interface LevelComparison {
  first: Named & { reach: number; sentence: string }
  second: Named & { reach: number; sentence: string }
  both: Right[]
  first_only: Right[]
  second_only: Right[]
}

export interface ChangeLine {
  grant_id: string
  holder: Holder | null
  account: AccountOf | null
  level: string | null
  does: string
  refused: string | null
  remedy: string
  latches: Breach[]
  revocation_id: string | null
}

export interface ChangePreview {
  lines: ChangeLine[]
  changed: number
  needs_proof: boolean
  fingerprint: string
}

export interface LatchState {
  kind: string
  mode: 'off' | 'warn' | 'hold'
  number: number | null
  pair: string[]
  words: string
  of_kind: boolean
  broken: string[]
}

export interface Mine {
  reach: (Path & { own: boolean })[]
  not_in_force: GrantRow[]
  mine: { account: Named; holders: { kind: string; id: string; name: string; reach: number; levels: string[]; until: string | null; last_day?: string | null }[] }[]
  offers: OpenOffer[]
  settings: { address: string | null; address_confirmed_at: string | null; second_factor: boolean; refuses_offers: boolean }
}

export interface NoticeRow {
  id: string
  kind: string
  sentence: string
  page: string
  at: string
  read_at: string | null
}

export interface TeamRow extends Named {
  partner: boolean
  purpose: string
  speaker: Named | null
  members: number
  grants: number
}

export interface Settings {
  offer_hours: number
  inside_domains: string[]
  prerequisites: string[]
  auditors: string[]
  remind_days: number[]
  keep_left_months: number | null
}

export interface ScheduleRow extends ReviewOf {
  recurrence: string
  recurs: string
  time_zone: string
  starts: string
  events: string[]
  days_to_decide: number
  paused: boolean
  answer: string
  version: number
}

export interface SchedulePage extends ScheduleRow {
  next: string[]
  rounds: number
}

export interface RuleOf {
  key: string
  subject: string
  title: string
  about: string
  remedy: string
  limits: string[]
  off: boolean
  own: boolean
  open: number
}

export type Four = (number | null)[]

export interface LimitOf {
  name: string
  unit: string
  about: string
  usual: Four
  values: Four
}

export interface RuleWeights {
  reach: number[]
  sensitivity: number[]
  outside: number
  staleness: number
  doubt: number
}

export interface RulesPage {
  rules: RuleOf[]
  limits: LimitOf[]
  weights: RuleWeights
  never_together: string[][]
  known_publishers: string[]
}

export interface RuleEffect {
  rule: string
  title: string
  raised: number
  cleared: number
  rescored: number
  examples: { what: string; sentence: string; score: number }[]
}

export interface OwnRulesChecked {
  rules: { key: string; on: string; title: string }[]
  failures: { rule: string; example: number; expected: boolean; why: string }[]
  effects: RuleEffect[]
}

export interface FactsOf {
  subject: { kind: string; id: string }
  holder: string
  account: string | null
  facts: { name: string; about: string; value: string | number | boolean | null }[]
  rules: { key: string; title: string; about: string; found: boolean; sentence: string }[]
}

export interface RiskMap {
  dangers: string[]
  idles: string[]
  cells: { danger: number; idle: number; count: number }[]
  danger_filters: string[]
  idle_filters: string[]
}

export interface EndOf {
  day: string
  grants: number
  people: number
  offers: number
  rounds: number
  names: string[]
}

export interface EndsCalendar {
  since: string
  until: string
  days: EndOf[]
}

/** A record as it is edited. */
export interface RecordOf {
  id: string
  name: string
  version: number
  archived_at: string | null
  values: Record<string, unknown>
  named: Record<string, string>
  dependents: { what: string; count: number }[]
  warnings: { latch: string; kind: string; mode: string; fact: string; remedy: string }[]
}

export interface EditedValue {
  field: string
  was: unknown
  will: unknown
}

export interface EditManyPreview {
  lines: { id: string; name: string; changes: EditedValue[]; refused: string | null; remedy: string }[]
  changed: number
  refused: number
  latches: RecordOf['warnings']
  fingerprint: string
}

export interface MergePreview {
  kept: Named
  gone: Named
  moves: { what: string; count: number }[]
  fills: EditedValue[]
  loses: EditedValue[]
  accounts: Named[]
  latches: RecordOf['warnings']
  fingerprint: string
}

export interface MergeOf {
  id: string
  kind: string
  kept: Named
  gone: Named
  merged_at: string
  merged_by: string
  undone_at: string | null
  undo_until: string
}

export interface TeamPage extends Named {
  partner: boolean
  purpose: string
  speaker: Named | null
  version: number
  archived_at: string | null
  members: { id: string; kind: 'person' | 'team'; member: Named; since: string | null; until: string | null; version: number }[]
  belongs_to: Named[]
  grants: number
}

export interface RecordedLine {
  line: number
  account: Named | null
  holder: { kind: string; id: string; name: string } | null
  level: string
  does: string
  grant_id: string | null
  refused: string | null
  remedy: string
}

export interface RecordAccessPreview {
  lines: RecordedLine[]
  new: number
  same: number
  refused: number
  latches: RecordOf['warnings']
  fingerprint: string
}

export type RoleName = 'administrator' | 'auditor' | 'reviewer' | 'member'

export interface SignInOf {
  id: string
  person: Named
  address: string
  role: RoleName
  standing: string
  suspended_at: string | null
  second_factor: boolean
  last_seen_at: string | null
  sessions: number
  tokens: number
}

export interface InvitationOf {
  id: string
  person: Named
  address: string
  role: RoleName
  sent_by: string
  sent_at: string
  times_sent: number
  runs_out_at: string
}

export interface InvitationToYou {
  organisation: string
  name: string
  address: string
  role: RoleName
  sent_by: string
  runs_out_at: string
}

export interface OwnPage {
  name: string
  role: RoleName
  sign_in_address: string
  addresses: { address: string; confirmed_at: string | null; is_first: boolean }[]
  second_factor_since: string | null
  recovery_codes_left: number
  password_set_at: string | null
  sessions: { id: string; device: string; address: string; started_at: string; last_seen_at: string; expires_at: string; is_this: boolean }[]
  tokens: { id: string; name: string; scope: 'read' | 'write'; made_at: string; last_used_at: string | null; expires_at: string; is_this: boolean }[]
  time_zone: string | null
  locale: string | null
  no_mail: string[]
  wants_digest: boolean
  refuses_offers: boolean
}

export interface MailSettings {
  host: string
  port: number
  user: string
  sender: string
  starttls: boolean
  has_password: boolean
  by_configuration: boolean
  test_state: '' | 'waiting' | 'sent' | 'failed'
  test_answer: string
  test_at: string | null
}

/** What an adapter has to be told. */
export interface AdapterOf {
  kind: string
  name: string
  needs_secret: boolean
  rights: string[]
  settings: { name: string; about: string; usual: string | number | null }[]
}

export interface SystemTrial {
  id: string
  state: 'waiting' | 'good' | 'refused'
  answer: string
  accounts: number | null
  grants: number | null
}

export interface SystemRecord {
  id: string
  name: string
  kind: string
  settings: Record<string, string | number>
  has_secret: boolean
  paused_at: string | null
  archived_at: string | null
  version: number
  dependents: { what: string; count: number }[]
}

/** What a search found, the best of each kind first. */
export interface Found {
  found: { kind: 'people' | 'accounts' | 'apps' | 'teams' | 'grants' | 'flags' | 'rounds' | 'systems'; id: string; label: string; detail: string }[]
}

/** A filter that somebody has kept by a name. */
export interface FilterKept {
  id: string
  name: string
  list: string
  filter: string
  search: string
  sort: string
  is_shared: boolean
  by: Named
  is_mine: boolean
  mail: 'never' | 'day' | 'week'
  version: number
}

export interface MovePlan {
  person: Named
  job_before: string
  job: string
  peers: number
  keeps: { account: Named; level: string; words: string; held_by: number | null }[]
  loses: { account: Named; rights: string[] }[]
  gets: { account: Named; rights: string[] }[]
  might_need: { account: Named; level: Named; sentence: string; held_by: number }[]
  rounds: Named[]
}

/** The columns of a file, each with the field that it is taken for. */
export interface FileLook {
  kind: string
  columns: { name: string; samples: string[]; field: string; by: '' | 'kept' | 'name' | 'content' }[]
  fields: { name: string; required: boolean }[]
}

/** What was erased of somebody, or would be. */
export interface Erased {
  person: Named
  erased: { records: number; sessions: number; journal: number }
  kept: string[]
}

export interface MyOrganisation {
  sign_in: string
  organisation: Named
  slug: string
  person: string
  role: RoleName
  is_closed: boolean
  is_current: boolean
  accounts: number
  levels: string[]
  as_partner: boolean
}

export interface PartnerPerson {
  id: string | null
  name: string
  address: string
  is_in: boolean
  here: Named | null
  is_held: boolean
  last_seen_at: string | null
  visits: number
}

export interface PartnerLink {
  id: string
  state: 'offered' | 'linked' | 'declined' | 'ended'
  we_are: 'partner' | 'client'
  other: string
  words: string
  offered_at: string
  offered_by: string
  accepted_at: string | null
  ended_at: string | null
  ended_by: string
  people: PartnerPerson[]
  team: Named | null
}

export interface ExposureRow extends Proved {
  id: string
  account: AccountOf & { sensitivity: number }
  resource: { id: string | null; name: string | null } | null
  right: 'see' | 'change' | 'administer'
  audience: 'anyone' | 'signed_in' | 'link' | 'named'
  open: boolean
  blocked: boolean
  forbidden: boolean
  gone: boolean
  understood: boolean
  sentence: string
  admitted_by: string[]
  since: string
  grew_at: string | null
  last_used_on: string | null
  judgement: 'unjudged' | 'intended' | 'to_close'
  judged_reason: string
  judged_by: { id: string | null; name: string | null } | null
  expected_by: { id: string | null; name: string | null } | null
  intended_until: string | null
}

export interface ExposureChange {
  change: 'new' | 'gone' | 'changed' | 'unchanged'
  grew: boolean
  account: Named
  resource: Named | null
  right: string
  sentence: string
  gained: string[]
  lost: string[]
  rules: string[]
  narrowed_by: string[]
  not_understood: string[]
  forbidden: boolean
}

export interface ExposureChanges {
  counts: Record<ExposureChange['change'], number>
  lines: ExposureChange[]
  more: number
  forbidden: number
  systems?: string[]
  fingerprint: string
}

export interface ClosingPreview extends Preview {
  rules: { account: string; key: string }[]
  exposures: ExposureChanges
}

export interface GuardRow {
  id: string
  sentence: string
  reason: string
  made_by: string
  systems: { system: Named; state: 'waiting' | 'set' | 'off' | 'failed'; words: string; seen_at: string | null }[]
}

export interface RuleProblem {
  pointer: string
  line: number
  message: string
}

export interface AccessRulesOf {
  account: Named
  document: unknown
  combining: string
  permissions: Record<string, string>
}

export interface RuleDraft {
  id: string
  state: 'waiting' | 'ready' | 'refused' | 'applying' | 'applied' | 'failed'
  failure: string
  document: string
  problems: RuleProblem[]
  counts: ExposureChanges['counts'] | null
  lines: ExposureChange[]
  more: number
}
