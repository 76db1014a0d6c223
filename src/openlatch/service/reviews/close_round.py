"""Closing a round: its decisions are carried out a few at a time, until each is confirmed or explained.

Closing itself is one short transaction. The worker then handles the items in small transactions, so writers do not
wait, and a crash in between loses and doubles nothing.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import timedelta
from uuid import UUID

from sqlalchemy import ColumnElement, func, select, text, update

from openlatch import schemas
from openlatch.core.checks import require_words
from openlatch.core.reviews.decisions import fate_of
from openlatch.core.vocabulary import DraftState, Fate, ItemState, Proof, Reach, Subject, Verdict
from openlatch.errors import BadInput, Conflict, NotFound, OpenLatchError
from openlatch.json_values import JsonObject
from openlatch.service import locks
from openlatch.service.attempt import attempt
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.reviews import carry_out, rounds
from openlatch.service.reviews.decisions import words
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.tables import Account, Grant, Item, Offer, Person, Revocation, Round, RuleDraft, Schedule, System

AT_ONCE = 100
UNDECIDED = "Undecided when the round was closed."
UNSECONDED = "No second reviewer had agreed when the round was closed."


def close(unit: Unit, ident: UUID, undecided: Mapping[str, str] | None = None) -> schemas.RoundPage:
    """Close a round: nobody decides in it any more, and the worker carries out the decisions.

    ``undecided`` says by reach what happens to items without a decision (keep, suspend or revoke); by default what was
    said when the round was opened, and without that such items are a Conflict.
    """
    unit.sight.require_administrator()
    row = unit.db.get(Round, ident, with_for_update=True, populate_existing=True)
    if row is None:
        raise NotFound("There is no such round.")
    if row.closed_at is not None:
        raise Conflict("The round is closed; nothing in it can change.", "Open a new round.")
    wanted = dict(undecided or row.undecided)
    unknown = set(wanted.values()) - set(Fate)
    if unknown:
        raise BadInput(f"{unknown.pop()!r} can't become of undecided items.", f"Use {', '.join(Fate)}.")
    counts = _counts(unit, ident)
    left = counts["items"] - counts["decided"]
    if left and not wanted:
        raise Conflict(
            f"{left} of {counts['items']} items are undecided.",
            "Decide them, or close the round saying what becomes of them (undecided: keep, suspend or revoke).",
        )
    row.fates_by = _fates_by(unit, row, bool(undecided))
    row.undecided = {reach.word: wanted.get(reach.word, Fate.KEEP.value) for reach in Reach} if wanted else {}
    row.closed_at, row.closed_by_id = unit.now, unit.viewer.person
    unit.record("round.closed", "round", row.id, row.name, undecided=row.undecided, **counts)
    unit.wake("carry_round", round=row.id)
    return rounds.page(unit, ident)


def _fates_by(unit: Unit, row: Round, now: bool) -> str:
    """Who or what decides about undecided items: whoever closes the round, its schedule, or who opened it."""
    if now:
        return f"as {unit.viewer.name} said when closing the round"
    if row.schedule_id is not None:
        return f"by the schedule “{unit.db.get_one(Schedule, row.schedule_id).name}”"
    opener = unit.db.get(Person, row.opened_by_id) if row.opened_by_id else None
    return f"as {opener.name if opener else unit.viewer.name} said when opening the round"


def _counts(unit: Unit, ident: UUID) -> JsonObject:
    row = unit.db.execute(
        select(
            func.count(Item.id).label("items"),
            func.count(Item.id).filter(Item.state == ItemState.DECIDED).label("decided"),
            *(
                func.count(Item.id)
                .filter(Item.state == ItemState.DECIDED, Item.verdict == verdict, ~Item.nothing_done)
                .label(name)
                for verdict, name in (("keep", "kept"), ("trim", "trimmed"), ("revoke", "revoked"))
            ),
            func.count(Item.id).filter(Item.nothing_done).label("nothing_done"),
            *(func.count(Item.id).filter(Item.proof == proof).label(proof.value) for proof in Proof),
            func.count(Item.id).filter(Item.fate.is_not(None)).label("left_undecided"),
            func.count(Item.id).filter(Item.explained != "").label("explained"),
        ).where(Item.round_id == ident)
    )
    return dict(row.mappings().one())


def due(unit: Unit) -> list[UUID]:
    """Open rounds whose time to close by themselves has come."""
    rows = unit.db.execute(
        select(Round.id, Round.due_at, Round.closes_after).where(
            Round.closed_at.is_(None), Round.closes_after.is_not(None)
        )
    )
    return [ident for ident, due_at, days in rows if unit.now >= due_at + timedelta(days=days or 0)]


def going_on(unit: Unit) -> list[UUID]:
    """Closed rounds with something left to carry out."""
    return list(unit.db.scalars(select(Round.id).where(Round.closed_at.is_not(None), Round.ended_at.is_(None))))


def carry_on(service: Service, viewer: Viewer, ident: UUID) -> bool:
    """Continue carrying out a closed round; returns whether it has ended."""
    while True:
        with service.unit(viewer) as unit:
            locks.access(unit)
            row = unit.db.get(Round, ident, with_for_update={"skip_locked": True}, populate_existing=True)
            if row is None or row.closed_at is None or row.ended_at is not None:
                return row is not None and row.ended_at is not None
            if not _some(unit, row):
                _look_what_is_done(unit, row.id)
                return _end_if_done(unit, row)


def _some(unit: Unit, row: Round) -> int:
    """Carry out the next few items; returns how many."""
    waiting = (
        select(Item)
        .where(
            Item.round_id == row.id,
            Item.done_at.is_(None),
            Item.revocation_id.is_(None),
            Item.offer_id.is_(None),
            Item.draft_id.is_(None),
            Item.outcome == "",
        )
        .order_by(Item.position)
        .limit(AT_ONCE)
        .with_for_update()
    )
    items = unit.db.scalars(waiting).all()
    for item in items:
        if item.draft_id is not None:
            # Already carried out together with an earlier one.
            continue
        try:
            with attempt(unit):
                _carry_out(unit, row, item)
        except OpenLatchError as error:
            unit.db.refresh(item)
            item.outcome = f"It could not be carried out: {error.detail}"
            unit.record("item.not_carried_out", "item", item.id, words(item), item.account_id, why=error.detail)
    unit.db.flush()
    kept = [item.grant_id for item in items if item.grant_id is not None and item.verdict == Verdict.KEEP]
    if kept:
        evaluate_flags.evaluate(unit, noted=kept)
    return len(items)


def _carry_out(unit: Unit, row: Round, item: Item) -> None:
    if item.state != ItemState.DECIDED:
        _settle(unit, row, item)
    if item.fate == Fate.SUSPEND:
        carry_out.suspend(unit, row, item)
    else:
        carry_out.act(unit, row, item)
    if item.grant_id is not None and item.verdict == Verdict.KEEP:
        left = unit.now if item.fate == Fate.KEEP else None
        unit.db.execute(update(Grant).where(Grant.id == item.grant_id).values(left_undecided_at=left))


def _settle(unit: Unit, row: Round, item: Item) -> None:
    """Handle an item that nobody decided."""
    fate = fate_of(row.undecided, Subject(item.kind), Reach(item.reach) if item.reach else None)
    verdicts = {Fate.KEEP: Verdict.KEEP, Fate.SUSPEND: Verdict.TRIM, Fate.REVOKE: Verdict.REVOKE}
    item.reason = UNDECIDED if item.state == ItemState.UNDECIDED else UNSECONDED
    item.fate, item.verdict, item.state = fate.value, verdicts[fate], ItemState.DECIDED
    item.trim_level_id, item.trim_until, item.trim_to_use = None, None, False
    item.decided_by_id, item.decided_at, item.version = None, unit.now, item.version + 1
    unit.record(
        "item.settled",
        "item",
        item.id,
        words(item),
        item.account_id,
        fate=fate,
        reason=item.reason,
        round=row.name,
        round_id=row.id,
        position=item.position,
    )


# An item's proof is the weakest of its revocation's ends, with its source and words.
_SETTLED = f"""
    update items i set done_at = k.settled_at, proof = k.proof, proved_at = k.proved_at,
        proved_by = coalesce(k.proved_by, ''), proof_words = coalesce(k.proof_words, ''),
        outcome = case k.proof
            when 'confirmed' then 'Confirmed: the system was asked again and shows it '
                || case i.verdict when 'trim' then 'trimmed.' else 'gone.' end
            when 'stated' then 'Stated: ' || k.proof_words
            when 'unproved' then 'Unproved: nothing shows that it is done. ' || k.proof_words
            when 'contradicted' then 'Contradicted: ' || k.proof_words
            else case i.verdict when 'trim' then 'Trimmed; Open Latch ends it when its time comes.' else 'Done.' end end
    from (
        select distinct on (o.id) o.id, r.settled_at, t.proof, t.proved_at, t.proved_by, t.proof_words
        from items o join revocations r on r.id = o.revocation_id
        left join revocation_targets t on t.revocation_id = r.id
            and (o.kind not in ('grant', 'link', 'session') or t.grant_id = o.grant_id or t.session_id = o.subject_id
                or not exists (select from revocation_targets m where m.revocation_id = r.id
                    and (m.grant_id = o.grant_id or m.session_id = o.subject_id)))
        where o.round_id = :round and o.done_at is null and r.settled_at is not null
        order by o.id, array_position(array[{", ".join(f"'{proof}'" for proof in Proof)}], t.proof) desc nulls last
    ) k where k.id = i.id
"""  # noqa: S608  constants


# A draft is applied only once a reading has shown its rules.
_NARROWED = """
    update items i set
        done_at = case d.state when 'applied' then d.applied_at end,
        proof = case d.state when 'applied' then 'confirmed' end,
        proved_at = d.applied_at, proved_by = case d.state when 'applied' then s.name else '' end,
        outcome = case d.state when 'applied' then 'Confirmed: the system was read again and shows the narrower rules.'
            else 'It could not be narrowed: ' || coalesce(d.result->>'failure', '') end
    from rule_drafts d join accounts a on a.id = d.account_id left join systems s on s.id = a.system_id
    where d.id = i.draft_id and i.round_id = :round and i.done_at is null and i.outcome = ''
        and d.state in ('applied', 'failed')
"""


def _look_what_is_done(unit: Unit, ident: UUID) -> None:
    """Find items whose revocation is settled, whose rules the system shows, or whose offer was answered."""
    unit.db.execute(text(_SETTLED), {"round": ident})
    unit.db.execute(text(_NARROWED), {"round": ident})
    answered: Sequence[tuple[str, JsonObject]] = (
        ("accepted", {"done_at": unit.now, "outcome": "Accepted."}),
        ("declined", {"outcome": "The successor declined."}),
        ("unknown_sender", {"outcome": "The successor does not know who offers it."}),
        ("withdrawn", {"outcome": "The offer was withdrawn."}),
        ("run_out", {"outcome": "The offer ran out."}),
    )
    for state, values in answered:
        offered: ColumnElement[bool] = Item.offer_id == Offer.id
        statement = update(Item).where(Item.round_id == ident, Item.done_at.is_(None), offered, Offer.state == state)
        unit.db.execute(statement.values(**values).execution_options(synchronize_session=False))


def _end_if_done(unit: Unit, row: Round) -> bool:
    to_do = select(Item.id).where(Item.round_id == row.id, Item.done_at.is_(None)).limit(1)
    if unit.db.scalar(to_do) is not None:
        return False
    row.coverage = _coverage(unit, row.id)
    row.ended_at = unit.now
    digest = row.items_hash.hex() if row.items_hash else ""
    unit.record("round.ended", "round", row.id, row.name, items_hash=digest, **_counts(unit, row.id))
    # Before anything in it changes or is erased.
    unit.wake("sign_evidence", round=row.id)
    return True


def _coverage(unit: Unit, ident: UUID) -> list[JsonObject]:
    """What readings of the round's accounts covered, and what not, when the round ends."""
    accounts = select(Item.account_id).where(Item.round_id == ident)
    rows = unit.db.execute(
        select(Account.name, Account.coverage, System.coverage)
        .join(System, System.id == Account.system_id)
        .where(Account.id.in_(accounts))
        .order_by(Account.name)
    )
    return [
        {"account": name, **{part: [*own.get(part, ()), *everywhere.get(part, ())] for part in _COVERED}}
        for name, own, everywhere in rows
        if own or everywhere
    ]


_COVERED = ("looked_at", "not_looked_at", "unknown")


def explain(unit: Unit, round_id: UUID, item_id: UUID, reason: str) -> schemas.ItemRow:
    """Explain why a decision can't be shown to be carried out, so that the round can end without it."""
    row, item = _unfinished(unit, round_id, item_id)
    require_words(reason, "There has to be an explanation.")
    item.explained, item.done_at = reason.strip(), unit.now
    unit.record(
        "item.explained",
        "item",
        item.id,
        words(item),
        item.account_id,
        reason=item.explained,
        round_id=row.id,
        position=item.position,
    )
    unit.db.flush()
    unit.wake("carry_round", round=row.id)
    return rounds.item(unit, round_id, item_id)


def retry(unit: Unit, round_id: UUID, item_id: UUID) -> schemas.ItemRow:
    """Try again to carry out what was refused before. Conflict while something of it is in progress."""
    row, item = _unfinished(unit, round_id, item_id)
    going_on = unit.db.get(Revocation, item.revocation_id) if item.revocation_id else None
    if going_on is not None and going_on.settled_at is None:
        raise Conflict("Its revocation is being carried out.", "Look at that, and retry its steps there.")
    draft = unit.db.get(RuleDraft, item.draft_id) if item.draft_id else None
    if draft is not None and draft.state == DraftState.APPLYING:
        raise Conflict("Its access rules are being set in the system.", "Look at the draft.")
    item.outcome, item.offer_id, item.revocation_id, item.draft_id = "", None, None, None
    unit.record("item.retried", "item", item.id, words(item), item.account_id, round_id=row.id)
    unit.db.flush()
    unit.wake("carry_round", round=row.id)
    return rounds.item(unit, round_id, item_id)


def _unfinished(unit: Unit, round_id: UUID, item_id: UUID) -> tuple[Round, Item]:
    unit.sight.require_administrator()
    row = unit.db.get(Round, round_id, with_for_update=True, populate_existing=True)
    item = unit.db.get(Item, item_id, with_for_update=True, populate_existing=True)
    if row is None or item is None or item.round_id != round_id:
        raise NotFound("There is no such item in this round.")
    if row.closed_at is None or row.ended_at is not None or item.done_at is not None:
        raise Conflict("There is nothing to carry out for it now.", "Look at the round.")
    return row, item
