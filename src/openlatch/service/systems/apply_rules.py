"""Setting a draft's rules in its system, and checking there that they are set."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from uuid import UUID

from sqlalchemy import select

from openlatch import schemas
from openlatch.adapters import Adapter
from openlatch.core.checks import require_words
from openlatch.core.exposure import document
from openlatch.core.vocabulary import DraftState, StepKind
from openlatch.errors import Conflict, NotFound, SystemDown, SystemRefused
from openlatch.json_values import JsonObject
from openlatch.service import connections, locks
from openlatch.service.canonical_json import fingerprint
from openlatch.service.exposure import draft_changes, drafts, guards
from openlatch.service.exposure.previews import More
from openlatch.service.systems import readings
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.tables import AccessRule, Account, Item, RuleDraft, System

AGAIN = timedelta(seconds=10)
_LATER = timedelta(minutes=1)
_OUTDATED = Conflict(
    "The account has other rules by now than the draft was compared with.", "Look at them, and make the draft again."
)


@dataclass(frozen=True, slots=True)
class Task:
    """What to do in a system: set all rules of an account, or remove some."""

    account: str
    rules: list[JsonObject]
    known: list[JsonObject]
    closing: list[JsonObject]


def ask(unit: Unit, ident: UUID, reason: str) -> schemas.RuleDraftRow:
    """Have the worker set the rules of a draft; needs a fresh proof and a reason.

    Conflict when the account's rules changed since the draft was compared, when a guard forbids what it would open, and
    when the system can't be given such rules.
    """
    row = drafts.opened(unit, ident)
    unit.require_proof("Setting access rules")
    require_words(reason, "Say why the rules are set.", "Whoever meets them next has only your reason.")
    start(unit, row, reason)
    return drafts.shown(unit, row)


def start(unit: Unit, row: RuleDraft, reason: str) -> None:
    """The same for a decision that was made already. Conflict as with ``refuse``."""
    locks.exposures(unit, row.account_id)
    unit.db.refresh(row, with_for_update=True)
    refuse(unit, row)
    row.state, row.reason, row.applied_by = "applying", reason.strip(), unit.viewer.name
    known = [fingerprint(rule.plain) for rule in drafts.rules_of(unit, row.account_id)]
    row.result = {**{name: value for name, value in row.result.items() if name != "failure"}, "known": known}
    unit.record("rule_draft.apply_asked", "rule_draft", row.id, _name(unit, row), row.account_id, reason=row.reason)
    unit.wake("apply_draft", draft=row.id)
    unit.announce("rule_drafts")


def refuse(unit: Unit, row: RuleDraft) -> None:
    """Conflict when a draft can't be set: in progress, overtaken, or refused by a guard or the system."""
    if row.state == DraftState.APPLYING:
        raise Conflict("It is on its way into the system already.", "Wait until the system shows it.")
    if row.state not in (DraftState.READY, DraftState.FAILED):
        raise Conflict(f"A draft that is {row.state} can't be set.", "Make a new one.")
    if row.result.get("permissions"):
        raise Conflict("The draft supposes other permissions than the system has.", "Make a draft without them.")
    account = unit.db.get_one(Account, row.account_id)
    if row.result.get("of") != drafts.state_of_rules(unit, account.id):
        raise _OUTDATED
    _task(unit, row, account)
    _refuse_second(unit, row)
    if drafts.is_small(unit, account.id):
        _ask_guards(unit, row, account)


def _refuse_overtaken(unit: Unit, row: RuleDraft) -> None:
    """Conflict when somebody changed the rules since the draft was requested.

    Rules that the draft itself adds or removes may be there or gone already, if it was set in part.
    """
    known = set(row.result["known"])
    now = {fingerprint(rule.plain) for rule in drafts.rules_of(unit, row.account_id)}
    document = json.loads(row.document)
    wanted = {fingerprint(rule) for rule in (*document.get("rules", []), *document.get("guards", []))}
    if now - known - wanted or (wanted & known) - now:
        raise _OUTDATED


def _refuse_second(unit: Unit, row: RuleDraft) -> None:
    """A draft sets all rules of an account: two at a time would each remove what the other sets."""
    other = select(RuleDraft.id).where(
        RuleDraft.account_id == row.account_id, RuleDraft.state == DraftState.APPLYING, RuleDraft.id != row.id
    )
    if unit.db.scalar(other.limit(1)) is not None:
        raise Conflict("Other access rules of this account are being set in its system.", "Wait until it shows them.")


def carry_out(service: Service, organisation: UUID, ident: UUID) -> datetime | None:
    """Set the rules of a draft, read the system, and store whether it shows them; returns when to try again."""
    viewer = Viewer.itself(organisation)
    with service.unit(viewer) as unit:
        begun = _begin(unit, ident)
    if begun is None:
        return None
    task, system, adapter = begun
    with service.rooms.enter(system) as has_room:
        if not has_room:
            return service.clock() + AGAIN
        try:
            _set(adapter, task)
        except SystemDown:
            return service.clock() + _LATER
        except SystemRefused as error:
            with service.unit(viewer) as unit:
                _end(unit, ident, error.detail)
            return None
    if readings.read(service, organisation, system) is None:
        return service.clock() + AGAIN
    with service.unit(viewer) as unit:
        _end(unit, ident, "The system took the rules, and shows others.")
    return None


def _begin(unit: Unit, ident: UUID) -> tuple[Task, UUID, Adapter] | None:
    """What to do for a draft in progress, in which system; None when it is over."""
    row = unit.db.get(RuleDraft, ident, with_for_update=True)
    if row is None or row.state != DraftState.APPLYING:
        return None
    account = unit.db.get_one(Account, row.account_id)
    try:
        if _is_shown(unit, row):
            return None
        _refuse_overtaken(unit, row)
        task = _task(unit, row, account)
        _ask_guards(unit, row, account)
        system = unit.db.get_one(System, account.system_id)
        return task, system.id, connections.adapter_for(unit.service, system)
    except (Conflict, NotFound, SystemRefused) as error:
        _fail(unit, row, error.detail)
    except document.Unreadable as error:
        _fail(unit, row, error.problems[0].message)
    return None


def _end(unit: Unit, ident: UUID, words: str) -> None:
    """Mark a draft as applied if the last reading shows it, else as failed; once."""
    row = unit.db.get_one(RuleDraft, ident, with_for_update=True)
    try:
        if row.state == DraftState.APPLYING and not _is_shown(unit, row):
            _fail(unit, row, words)
    except Conflict as error:
        _fail(unit, row, error.detail)


def going_on(unit: Unit) -> list[UUID]:
    """Drafts in progress."""
    return list(
        unit.db.scalars(select(RuleDraft.id).where(RuleDraft.state == DraftState.APPLYING).order_by(RuleDraft.id))
    )


def _is_shown(unit: Unit, row: RuleDraft) -> bool:
    """Whether the last reading shows the rules of a draft."""
    wanted, known = _wanted(row, drafts.rules_of(unit, row.account_id))
    if known != wanted:
        return False
    row.state, row.applied_at = "applied", unit.now
    unit.record(
        "rule_draft.applied",
        "rule_draft",
        row.id,
        _name(unit, row),
        row.account_id,
        reason=row.reason,
        by=row.applied_by,
    )
    _tell(unit, row)
    return True


def _fail(unit: Unit, row: RuleDraft, words: str) -> None:
    row.state = DraftState.FAILED
    row.result = {**row.result, "failure": words}
    unit.record("rule_draft.failed", "rule_draft", row.id, _name(unit, row), row.account_id, words=words)
    _tell(unit, row)


def _name(unit: Unit, row: RuleDraft) -> str:
    return unit.db.get_one(Account, row.account_id).name


def _tell(unit: Unit, row: RuleDraft) -> None:
    """Notify those who wait for a draft: open consoles, and reviews that decided it."""
    unit.announce("rule_drafts")
    for ident in unit.db.scalars(select(Item.round_id).where(Item.draft_id == row.id).distinct()):
        unit.wake("carry_round", round=ident)


def _task(unit: Unit, row: RuleDraft, account: Account) -> Task:
    """What to ask of the system. Conflict when it can't be asked for that."""
    rules = drafts.rules_of(unit, account.id)
    wanted, known = _wanted(row, rules)
    if wanted == known:
        raise Conflict("These are the account's rules already.", "There is nothing to set.")
    there = {rule.key: rule.plain for rule in rules if rule.is_guard}
    if {str(guard["guard"]): guard for guard in json.loads(row.document).get("guards", [])} != there:
        raise Conflict("Guards of a system are not set by a draft.", "Leave them as they are; set a guard by itself.")
    system = unit.db.get(System, account.system_id) if account.system_id else None
    maker = unit.service.adapters.get(system.kind) if system is not None else None
    if system is None or maker is None or not system.has_secret or not account.handle:
        raise Conflict(f"Nothing can be set in {account.name} from here.", "Set the rules there.")
    can = maker(system.settings, "").can
    closing: list[JsonObject] = []
    if not can.sets_rules:
        gone = [rule for rule in rules if not (rule.is_guard or rule.by_hand) and rule.plain not in wanted]
        is_less = all(rule in known for rule in wanted) and StepKind.CLOSE in can.steps
        if not is_less or not all(rule.handle for rule in gone):
            raise Conflict(
                f"{system.name} can't be given access rules from here, only have them taken away.",
                "Set the rules there, or leave out of the draft what is to go.",
            )
        closing = [rule.handle for rule in gone]
    return Task(account.handle, wanted, known, closing)


def _wanted(row: RuleDraft, rules: Sequence[AccessRule]) -> tuple[list[JsonObject], list[JsonObject]]:
    """The rules that a draft wants, and those that were read.

    Conflict when it leaves out rules recorded by hand: no system has those.
    """
    wanted = list(json.loads(row.document).get("rules", []))
    by_hand = [rule.plain for rule in rules if rule.by_hand]
    if any(rule not in wanted for rule in by_hand):
        raise Conflict("The draft leaves out a rule that was written down here by hand.", "Take that away by itself.")
    return [rule for rule in wanted if rule not in by_hand], [
        rule.plain for rule in rules if not (rule.is_guard or rule.by_hand)
    ]


def _set(adapter: Adapter, task: Task) -> None:
    if not task.closing:
        adapter.set_rules(task.account, task.rules, task.known)
    for handle in task.closing:
        for step in adapter.plan(StepKind.CLOSE, handle):
            adapter.apply(step.kind, step.detail)


def _ask_guards(unit: Unit, row: RuleDraft, account: Account) -> None:
    """Conflict when the rules would open something, or open it farther, that a guard forbids."""
    if not guards.of_account(unit, account):
        return
    for line in draft_changes.lines(unit, account, row.document):
        if not isinstance(line, More) and line.forbidden and (line.change == "new" or line.grew):
            raise Conflict(
                f"A guard of the organisation forbids it: {line.sentence}", "Lift the guard, or change the draft."
            )
