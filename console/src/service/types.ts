/** What the service answers and takes, by the names of its OpenAPI document; openapi.d.ts is generated from that. */

import type { components } from './openapi'

type Schemas = components['schemas']

export type SignalReceiverOf = Schemas['SignalReceiverOf']
export type SignalSourceOf = Schemas['SignalSourceOf']
export type CharterChange = Schemas['CharterChange']
export type AccessRulesOf = Schemas['RulesOfAccount']
export type AccountOf = Schemas['AccountOf']
export type AccountPage = Schemas['AccountPage']
export type AccountRow = Schemas['AccountRow']
export type AdapterOf = Schemas['AdapterOf']
export type AppPage = Schemas['AppPage']
export type AppRow = Schemas['AppRow']
export type Breach = Schemas['Breach']
/** What a change does to one grant; a large change has no names of what may not be seen any more. */
export type ChangeLine = Schemas['LargeChangeLine']
export type ChangePreview = Omit<Schemas['ChangePreview'], 'lines'> & { lines: ChangeLine[] }
export type ClosingPreview = Schemas['ClosingPreview']
export type Coverage = Schemas['Coverage']
export type Doubt = Schemas['Doubt']
export type EditManyPreview = Schemas['EditManyPreview']
export type EditedValue = Schemas['EditedValue']
export type End = Schemas['End']
export type EndOf = Schemas['EndOf']
export type Ends = Schemas['Ends']
export type EndsCalendar = Schemas['Calendar']
export type Erased = Schemas['Erased']
export type ExposureChange = Schemas['ExposureChange']
export type ExposureChanges = Schemas['ExposureChanges']
export type ExposureRow = Schemas['ExposureRow']
export type FactsOf = Schemas['FactsOf']
export type FileLook = Schemas['FileLook']
export type FilterKept = Schemas['FilterKept']
export type FlagRow = Schemas['FlagRow']

export type NextAction = Schemas['NextAction']
export type Found = Schemas['Found']
export type GrantRow = Schemas['GrantRow']
export type GuardRow = Schemas['GuardRow']
export type Holder = Schemas['Holder']
export type ImportReport = Schemas['ImportReport']
export type Inside = Schemas['InsideOf']
export type InvitationOf = Schemas['InvitationOf']
export type InvitationToYou = Schemas['InvitationToYou']
export type JournalRow = Schemas['JournalRow']
export type JournalVerdict = Schemas['JournalVerdict']
export type LatchState = Schemas['LatchState']
export type LeavingPage = Schemas['LeavingPage']
export type LeavingPreview = Schemas['LeavingPreview']
export type LevelComparison = Schemas['LevelComparison']
export type LevelPreview = Schemas['LevelPreview']
export type LevelRow = Schemas['LevelRow']
export type LimitOf = Schemas['LimitOf']
export type MailSettings = Schemas['MailSettings']
export type Me = Schemas['Me']
export type MergeOf = Schemas['MergeOf']
export type MergePreview = Schemas['MergePreview']
export type Mine = Schemas['Mine']
export type MovePlan = Schemas['MovePlan']
export type MyOrganisation = Schemas['MyOrganisation']
export type Named = Schemas['Named']
export type NoticeRow = Schemas['NoticeRow']
export type OfferPreview = Schemas['OfferPreview']
export type OfferRow = Schemas['OfferRow']
export type OfferedTo = Schemas['OfferedTo']
export type OpenOffer = Schemas['OpenOffer']
export type OwnPage = Schemas['OwnPage']
export type OwnRulesChecked = Schemas['OwnRulesChecked']
export type Part = Schemas['PartOf']
export type PartnerLink = Schemas['PartnerLinkRow']
export type PartnerPerson = Schemas['PartnerPerson']
export type Path = Schemas['Path']
export type Permission = Schemas['PermissionOf']
export type PersonPage = Schemas['PersonPage']
export type PersonRow = Schemas['PersonRow']
export type Place = Schemas['Place']
export type Preview = Schemas['Preview']
export type Proved = Schemas['Proved']
export type QuestionRow = Schemas['QuestionRow']
export type RecordAccessPreview = Schemas['RecordAccessPreview']
export type RecordedLine = Schemas['RecordedLine']
export type RequestRow = Schemas['RequestRow']
export type ReviewerProgress = Schemas['ReviewerProgress']
export type RevocationPage = Schemas['RevocationPage']
export type RevocationRow = Schemas['RevocationRow']
export type Right = Schemas['PermissionOf']
export type RiskMap = Schemas['RiskMap']
export type RoundPage = Schemas['RoundPage']
export type RoundProgress = Schemas['RoundProgress']
export type RoundRow = Schemas['RoundRow']
export type RuleDraft = Schemas['RuleDraftRow']
export type RuleEffect = Schemas['RuleEffect']
export type RuleOf = Schemas['RuleOf']
export type RuleProblem = Schemas['RuleProblem']
export type RuleWeights = Schemas['WeightsOf']
export type RulesPage = Schemas['RulesPage']
export type SchedulePage = Schemas['SchedulePage']
export type ScheduleRow = Schemas['ScheduleRow']
export type SessionRow = Schemas['SessionRow']
export type Settings = Schemas['Settings']
export type DeviceAsked = Schemas['DeviceAsked']
export type WebhookOf = Schemas['WebhookOf']
export type Ceremony = Schemas['Ceremony']
export type PasskeyOf = Schemas['PasskeyOf']
export type ProviderOf = Schemas['ProviderOf']
export type SignInOf = Schemas['SignInOf']
export type StepRow = Schemas['StepRow']
export type SystemRecord = Schemas['SystemRecord']
export type SystemRow = Schemas['SystemRow']
export type SystemTrial = Schemas['SystemTrial']
export type TaskRow = Schemas['TaskRow']
export type TeamPage = Schemas['TeamPage']
export type TeamRow = Schemas['TeamRow']
export type Today = Schemas['Today']
export type AttributeOf = Schemas['AttributeOf']
export type Trends = Schemas['Trends']
export type TrendPoint = Schemas['TrendPoint']
export type Undone = Schemas['Undone']

export type Problem = Omit<Schemas['Problem'], 'breaches' | 'type' | 'status'> & { breaches?: Breach[]; type?: string }

export type RoleName = SignInOf['role']

export type Proof = NonNullable<End['proof']>

/** An item, whose facts are as they were frozen. */
export type ItemRow = Omit<Schemas['ItemRow'], 'facts' | 'verdict'> & { facts: ItemFacts; verdict: Verdict | null }

export type TermsNow = Schemas['TermsNow']

export interface Rows<T> {
  rows: T[]
  next: string
  count: number | null
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

export type Four = (number | null)[]

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

/** A change of more grants than one call has time for: the worker makes it. */
export type LargeChange = Schemas['LargeChangePage']
