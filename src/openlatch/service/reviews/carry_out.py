"""Carrying out decisions: what ending or trimming means for each kind of item."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from uuid import UUID

from sqlalchemy import and_, or_, select

from openlatch import schemas
from openlatch.core.exposure.comparison import Change
from openlatch.core.latches import LatchKind, LatchMode
from openlatch.core.reviews.decisions import REVOKING
from openlatch.core.time_windows import day_in_words
from openlatch.core.vocabulary import Cause, FlagState, GrantState, ItemState, Proof, Standing, Subject, Verdict
from openlatch.errors import Conflict, NotFound, OpenLatchError
from openlatch.service.attempt import attempt
from openlatch.service.changes import changes
from openlatch.service.exposure import access_rules, judge, narrow
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.grants import change_types
from openlatch.service.latches import guard
from openlatch.service.offers import send as send_offer
from openlatch.service.revocations import confirm, prepare, revoke
from openlatch.service.systems import apply_rules
from openlatch.service.unit import Unit
from openlatch.store.lists.register import LIVE
from openlatch.store.tables import (
    Account,
    Flag,
    Grant,
    Item,
    Latch,
    Person,
    Revocation,
    RevocationTarget,
    Round,
    RuleDraft,
    Session,
    Team,
    Term,
)

OF_GRANTS = (Subject.GRANT, Subject.LINK)


def wish_of(unit: Unit, item: Item) -> prepare.Wish | None:
    """What to end or trim for an item; None when nothing is left, or no system is concerned."""
    kind = Subject(item.kind)
    if kind in OF_GRANTS:
        grant = _as_it_is_now(unit, item)
        if grant.state in (GrantState.ENDED, GrantState.REVOKING):
            return None
        return prepare.Wish((grant.id,), trim_level=item.trim_level_id, trim_until=item.trim_until)
    if kind is Subject.SESSION:
        live = unit.db.get_one(Session, item.subject_id).ended_at is None
        return prepare.Wish(sessions=(item.subject_id,)) if live else None
    if kind is Subject.EXPOSURE:
        return _closing(unit, item.subject_id)
    return None


def _as_it_is_now(unit: Unit, item: Item) -> Grant:
    """The grant of an item; where a reading shows access that had ended, the grant that it shows."""
    grant = unit.db.get_one(Grant, item.grant_id)
    if grant.proof != Proof.CONTRADICTED:
        return grant
    there = select(Grant).where(
        Grant.account_id == grant.account_id, Grant.holder_id == grant.holder_id, Grant.state.in_(LIVE)
    )
    return unit.db.scalars(there.order_by(Grant.given_at.desc())).first() or grant


def _closing(unit: Unit, ident: UUID) -> prepare.Wish | None:
    """Closing a part: the rules that let outsiders in, and outsiders' grants on exactly this part.

    Outsiders with the whole account, or a group, keep it: that is decided on their own grants.
    """
    alone = select(Term.grant_id).where(Term.resource_id == ident)
    more = select(Term.grant_id).where(or_(Term.resource_id.is_(None), Term.resource_id != ident))
    outside = or_(
        Grant.holder_id.in_(select(Person.id).where(~Person.inside)),
        Grant.team_id.in_(select(Team.id).where(Team.partner)),
    )
    grants = unit.db.scalars(
        select(Grant.id).where(
            and_(Grant.id.in_(alone), Grant.id.not_in(more)),
            Grant.state.in_((GrantState.ACTIVE, GrantState.SUSPENDED)),
            outside,
        )
    ).all()
    rules = tuple(sorted(access_rules.opening(unit, ident)))
    return prepare.Wish(tuple(sorted(grants)), rules=rules) if grants or rules else None


def preview(unit: Unit, item: Item) -> schemas.DecisionPreview:
    """What carrying out an item's decision would do: a sentence, and the full preview where a system is changed."""
    kind = Subject(item.kind)
    stays = item.verdict == Verdict.KEEP or (kind is Subject.EXPOSURE and item.verdict == Verdict.TRIM)
    wish = wish_of(unit, item) if not stays else None
    shown = revoke.preview(unit.as_service(), wish) if wish is not None else None
    if item.verdict == Verdict.KEEP:
        sentence = "It stays as it is."
    elif item.verdict == Verdict.TRIM:
        sentence = "It is trimmed." if kind is not Subject.EXPOSURE else "It counts as intended until then."
        if item.trim_to_use:
            sentence = _narrowing_in_words(_narrowed(unit.as_service(), item, [item.subject_id]))
    else:
        sentence = f"This {REVOKING[kind]}."
        if kind is Subject.EXPOSURE and wish is None:
            sentence = "Whoever outside reaches it has more than this part: decide on their grants."
    return schemas.DecisionPreview(sentence=sentence, preview=shown)


def act(unit: Unit, round_row: Round, item: Item) -> None:
    """Start what was decided. What has ended meanwhile needs nothing more.

    The reviewer decides; the service carries it out, also where the reviewer could not.
    """
    reason = f"{item.reason} (review “{round_row.name}”)"
    trusted = unit.as_service()
    kind = Subject(item.kind)
    if item.trim_to_use:
        _narrow(trusted, item, reason)
    elif kind is Subject.EXPOSURE and item.verdict != Verdict.REVOKE:
        _intend(trusted, item, reason)
    elif item.verdict == Verdict.KEEP or kind in (*OF_GRANTS, Subject.SESSION, Subject.EXPOSURE):
        wish = wish_of(unit, item) if item.verdict != Verdict.KEEP else None
        if wish is not None:
            item.revocation_id = revoke.start(trusted, wish, reason, cause=Cause.REVIEW)
            unit.db.flush()
        elif item.verdict == Verdict.KEEP:
            _done(unit, item, "Kept.")
        else:
            _ended_before(unit, item)
    elif kind is Subject.OWNERSHIP:
        _hand_over(unit, item, reason)
    elif kind is Subject.LATCH:
        _switch_off(trusted, item)
        _done(unit, item, "Switched off.")
    else:
        _reopen(unit, item, reason)
        _done(unit, item, "The flag is open again.")


def _intend(unit: Unit, item: Item, reason: str) -> None:
    """What somebody kept, possibly until a day, counts as intended; what nobody decided keeps its judgement."""
    if item.decided_by_id is None:
        _done(unit, item, "Kept.")
        return
    found = judge.intend_all(unit, item.subject_id, reason.strip(), item.trim_until)
    until = f" until {day_in_words(item.trim_until, unit.zone)}" if item.trim_until else ""
    _done(unit, item, f"It counts as intended{until}." if found else "Nothing of it is open any more.")


def _narrow(unit: Unit, item: Item, reason: str) -> None:
    """Give the system rules that allow only the use seen.

    A system is given all rules of an account at once, so all decisions on the account that are due are carried out
    together.
    """
    found = unit.db.scalars(
        select(Item)
        .join(Round, Round.id == Item.round_id)
        .where(
            Item.round_id == item.round_id,
            Item.account_id == item.account_id,
            Item.trim_to_use,
            Item.state == ItemState.DECIDED,
            Item.draft_id.is_(None),
            Item.done_at.is_(None),
            Item.outcome == "",
            or_(Item.id == item.id, Round.closed_at.is_not(None)),
        )
        .order_by(Item.position)
        .with_for_update(of=Item)
    ).all()
    together = [each for each in found if each is item or _can_be_narrowed(unit, each)]
    draft = _narrowed(unit, item, [each.subject_id for each in together])
    apply_rules.start(unit, draft, reason)
    for each in together:
        each.draft_id = draft.id
    unit.db.flush()


def _can_be_narrowed(unit: Unit, item: Item) -> bool:
    """Leave out what can't be narrowed; it is reported when its turn comes."""
    try:
        return bool(narrow.of_resource(unit, item.subject_id))
    except Conflict:
        return False


def _narrowed(unit: Unit, item: Item, resources: Sequence[UUID]) -> RuleDraft:
    """A draft of rules that narrows resources. Conflict where the system can't be given it, or it is not narrower."""
    assert item.account_id is not None
    draft = narrow.resources(unit, item.account_id, resources)
    apply_rules.refuse(unit, draft)
    return draft


def _narrowing_in_words(draft: RuleDraft) -> str:
    """What a draft would change, in words, for whoever decides."""
    told = []
    for line in draft.result["lines"]:
        if line["change"] == Change.CHANGED:
            told.append(f"Now: {line['before']} Then: {line['sentence']}")
        elif line["change"] == Change.GONE:
            told.append(f"Closed: {line['before']}")
    return " ".join(["Only the use by outsiders that was seen continues.", *told])


def _ended_before(unit: Unit, item: Item) -> None:
    """For what had already ended: how, by whom and with which proof, never guessed."""
    kind = Subject(item.kind)
    if kind is Subject.EXPOSURE:
        item.nothing_done = True
        _done(unit, item, "Nothing was ended: whoever outside reaches it has more than this part.")
        return
    row: Grant | Session = (
        unit.db.get_one(Session, item.subject_id) if kind is Subject.SESSION else unit.db.get_one(Grant, item.grant_id)
    )
    target = RevocationTarget.session_id if kind is Subject.SESSION else RevocationTarget.grant_id
    last = unit.db.execute(
        select(Revocation, Person.name)
        .join(RevocationTarget, RevocationTarget.revocation_id == Revocation.id)
        .outerjoin(Person, Person.id == Revocation.asked_by_id)
        .where(target == row.id, Revocation.undone_at.is_(None))
        .order_by(Revocation.created_at.desc())
        .limit(1)
    ).first()
    if last is not None and last[0].settled_at is None:
        # Somebody else is ending it already: done when that is.
        item.revocation_id = last[0].id
        return
    item.proof, item.proved_at = row.proof, row.proved_at
    item.proved_by, item.proof_words = row.proved_by, row.proof_words
    by = f" by {last[1]}" if last is not None and last[1] else ""
    how = (row.ended_as or "ended").replace("_", " ")
    when = f" on {day_in_words(row.ended_at, unit.zone)}" if row.ended_at else ""
    _done(unit, item, f"It had ended before{when}, {how}{by}; {confirm.said(unit, row) or 'how is not known'}.")


def _done(unit: Unit, item: Item, outcome: str) -> None:
    item.outcome, item.done_at = outcome, unit.now


def _hand_over(unit: Unit, item: Item, reason: str) -> None:
    account = unit.db.get_one(Account, item.subject_id, with_for_update=True)
    assert item.successor_id is not None
    if account.owner_id == item.successor_id:
        _done(unit, item, "They own it already.")
        return
    item.offer_id = send_offer.offer_ownership(unit.as_service(), account.id, item.successor_id, None, reason).id
    item.outcome = "Offered; it is done when they accept."


def _switch_off(unit: Unit, item: Item) -> None:
    row = unit.db.get(Latch, item.subject_id)
    if row is None:
        raise NotFound("The latch is not there any more.", "Keep the item.")
    pair = (str(row.pair[0]), str(row.pair[1])) if len(row.pair) == 2 else ("", "")
    kind = LatchKind(row.kind)
    guard.switch(unit, guard.Setting(kind, LatchMode.OFF, row.account_id, row.account_kind, row.number, pair))


def _reopen(unit: Unit, item: Item, reason: str) -> None:
    flag = unit.db.get_one(Flag, item.subject_id, with_for_update=True)
    if flag.state == FlagState.ACCEPTED:
        flag.state, flag.accepted_until = FlagState.OPEN, None
        title = evaluate_flags.title_of(unit, flag.rule)
        unit.record("flag.reopened", "flag", flag.id, title, flag.account_id, why=reason)


def suspend(unit: Unit, round_row: Round, item: Item) -> None:
    """Suspend the grant of an undecided item; reported as refused where that is impossible."""
    grant = unit.db.get_one(Grant, item.grant_id)
    if grant.state != GrantState.ACTIVE:
        _done(unit, item, f"It was {grant.ended_as or grant.state} already.")
        return
    why = f"Undecided in the review “{round_row.name}”."
    change = change_types.Change(change_types.ChangeKind.SUSPEND, why, (grant.id,))
    try:
        changes.carry_out(unit.as_service(), change)
    except OpenLatchError as error:
        item.outcome = f"It could not be suspended: {error.detail}"
        return
    _done(unit, item, "Suspended.")


def try_out(unit: Unit, item: Item) -> None:
    """Refuse now what could not be carried out at the close."""
    if item.trim_to_use:
        with attempt(unit, keep=False) as within:
            _narrowed(within.as_service(), item, [item.subject_id])
        return
    wish = wish_of(unit, item)
    if wish is not None:
        revoke.preview(unit.as_service(), wish)
    if Subject(item.kind) is Subject.OWNERSHIP and item.verdict == Verdict.REVOKE:
        person = unit.db.get(Person, item.successor_id)
        if person is None or person.standing == Standing.LEFT:
            raise Conflict("There is no such person, or they have left.", "Choose another successor.")


def lives_until(item: Item) -> datetime | None:
    """When the access of an item ends by itself, as frozen."""
    until = item.facts.get("until")
    return datetime.fromisoformat(until) if until else None
