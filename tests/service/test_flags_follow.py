"""Flags never lag behind what somebody does: whatever it was, a pass over everything finds nothing new."""

from __future__ import annotations

import io
import itertools
import random
from collections.abc import Callable
from datetime import timedelta
from uuid import UUID

import pytest
from sqlalchemy import select

from openlatch.core.latches import LatchKind, LatchMode
from openlatch.core.vocabulary import Verdict
from openlatch.errors import BadInput, Conflict, NotAllowed, NotFound
from openlatch.service import imports
from openlatch.service import undo as revocation_undo
from openlatch.service.changes import changes
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.grants import levels, usage
from openlatch.service.grants.change_types import Change, ChangeKind
from openlatch.service.latches import guard
from openlatch.service.latches.guard import Setting
from openlatch.service.lists import register
from openlatch.service.offers import answer
from openlatch.service.offers import send as send_offer
from openlatch.service.people import leavers
from openlatch.service.requests import ask as ask_access
from openlatch.service.reviews import decisions, open_round
from openlatch.service.reviews.decisions import Decision
from openlatch.service.reviews.plans import Review
from openlatch.service.revocations import prepare, revoke, steps
from openlatch.service.unit import Unit
from openlatch.store.tables import Account, Breach, Grant, Item, Offer, Person, Revocation, Session, Step
from tests.seeds import seeds
from tests.service.conftest import Small, lagging

DAY = timedelta(days=1)
WARNS = (
    LatchKind.MOST_DELEGATES,
    LatchKind.NO_OUTSIDERS,
    LatchKind.TWO_STEWARDS,
    LatchKind.SECOND_FACTOR,
    LatchKind.NO_SPEND_OUTSIDE,
    LatchKind.ONE_AT_A_TIME,
)
Move = Callable[[Unit], None]


def breaches(unit: Unit) -> dict[UUID, str]:
    """What breaks latches, as it stands."""
    return {row.account_id: row.words for row in unit.db.execute(select(Breach.account_id, Breach.words))}


def looked_up(unit: Unit) -> dict[UUID, str]:
    """What would stand if all of it were looked up now."""
    point = unit.db.begin_nested()
    guard.evaluate(unit)
    unit.db.flush()
    found = breaches(unit)
    point.rollback()
    return found


def bring(unit: Unit, kind: str, written: str) -> None:
    report = imports.bring(unit, kind, "csv", io.BytesIO(written.encode()), keep_good=False, try_only=False)
    assert report.kept, report.errors


def brings(kind: str, written: str) -> Move:
    return lambda unit: bring(unit, kind, written)


def moves(small: Small, dice: random.Random) -> dict[str, Move]:  # noqa: C901  a list of small ones
    """What can be done that flags have to follow at once."""

    def some(unit: Unit, *states: str) -> UUID:
        found = unit.db.scalars(select(Grant.id).where(Grant.state.in_(states)).order_by(Grant.key, Grant.id)).all()
        if not found:
            raise NotFound("There is none.")
        return dice.choice(found)

    def change(kind: ChangeKind, state: str, **how: object) -> Move:
        def act(unit: Unit) -> None:
            changes.carry_out(unit, Change(kind, "Test.", (some(unit, state),), **how))  # type: ignore[arg-type]

        return act

    def note(unit: Unit) -> None:
        usage.note(unit, [some(unit, "active")])

    def end_session(unit: Unit) -> None:
        ident = unit.db.scalars(select(Session.id).where(Session.ended_at.is_(None)).order_by(Session.key)).first()
        if ident is not None:
            revoke.start(unit, prepare.Wish(sessions=(ident,)), "Test.")

    def do_steps(unit: Unit) -> None:
        for ident in unit.db.scalars(select(Revocation.id).where(Revocation.settled_at.is_(None))).all():
            waiting = select(Step.id).where(Step.revocation_id == ident, Step.state == "by_hand")
            for step in unit.db.scalars(waiting.order_by(Step.position)).all():
                steps.done_by_hand(unit, ident, step, "Taken out of the list.")

    def grow(unit: Unit) -> None:
        ident = small.level(dice.choice(["read", "run"]))
        row = register.row(unit, "levels", ident)
        held = [p["key"] for p in row["permissions"]]
        new = [*held, "mail.share"] if "mail.share" not in held else ["mail.read"]
        draft = levels.Draft(row["name"], row["sentence"], tuple(new))
        levels.change(unit, ident, draft, levels.preview(unit, ident, draft).fingerprint, row["version"])

    def emergency(unit: Unit) -> None:
        unit.viewer = small.as_("owen")
        wish = ask_access.Wish("The pipe has burst.", account_name="Box", level=small.level("read"), emergency=True)
        ask_access.ask(unit, wish)

    def leave(unit: Unit) -> None:
        person = small.person(dice.choice(["owen", "mara"]))
        heirs = {one.account.id: small.person("ines") for one in leavers.preview(unit, leavers.Plan(person)).accounts}
        leavers.start(unit, leavers.Plan(person, heirs), "The season is over.")

    def review(unit: Unit) -> None:
        ident = open_round.open_round(unit, Review("Spring", 'account.name eq "Box"'))
        items = list(unit.db.scalars(select(Item.id).where(Item.round_id == ident)))
        for item in items:
            decisions.decide(unit, ident, item, Decision(Verdict.KEEP, "They need it."))
        if dice.random() < 0.5:
            decisions.undo(unit, ident, dice.choice(items))

    def undo(unit: Unit) -> None:
        ident = unit.db.scalars(select(Revocation.id).where(Revocation.undone_at.is_(None))).first()
        if ident is not None:
            revocation_undo.undo(unit, ident, "Ended by mistake.")

    def change_hands(unit: Unit) -> None:
        to = small.person(dice.choice(["mara", "owen"]))
        unit.db.get_one(Person, to).address_confirmed_at = unit.now
        offer = send_offer.offer_ownership(unit, small.account(dice.choice(["box", "rota"])), to, None, "").id
        row = unit.db.get_one(Offer, offer)
        answer._accept(unit, offer, row.version, by_link=True)

    holder, account = dice.choice(["ines", "mara", "owen", "edda"]), dice.choice(["box", "rota", "ledger"])
    through = dice.choice([other for other in ("box", "rota", "ledger") if other != account])
    level = "pay" if account == "ledger" else dice.choice(["read", "run"])
    day = f"2026-0{dice.randrange(1, 4)}-0{dice.randrange(1, 9)}"
    return {
        "give": brings("grants", f"account,holder,level,given_by,given_at\n{account},{holder},{level},ines,{day}\n"),
        "give a team": brings(
            "grants", f"account,holder_kind,holder,level,given_by,given_at\n{account},team,wardens,{level},ines,{day}\n"
        ),
        "give an account": brings(
            "grants",
            f"account,holder_kind,holder,level,given_by,given_at\n{account},account,{through},{level},ines,{day}\n",
        ),
        "use": brings("use", f"account,holder,permission,last_used_at\nbox,mara,mail.read,{day}\n"),
        "sign in": brings(
            "sessions",
            f"key,account,holder,device,address,started_at\ns{dice.randrange(9)},{account},"
            f"{holder},Desk,192.0.{dice.randrange(3)}.9,{day}T08:00:00Z\n",
        ),
        "note": note,
        "suspend": change(ChangeKind.SUSPEND, "active"),
        "resume": change(ChangeKind.RESUME, "suspended"),
        "set an end": change(ChangeKind.SET_END, "active", until=small.clock() + dice.randrange(2, 900) * DAY),
        "take the end away": change(ChangeKind.SET_END, "active", no_end=True),
        "change the level": change(ChangeKind.SET_LEVEL, "active", level=small.level(level)),
        "replace": change(ChangeKind.REPLACE, "active", successor=small.person("mara")),
        "end": change(ChangeKind.END, "active"),
        "end a session": end_session,
        "do the steps": do_steps,
        "change what a level holds": grow,
        "an emergency": emergency,
        "leave": leave,
        "review": review,
        "come back": undo,
        "change hands": change_hands,
    }


@pytest.mark.parametrize("seed", seeds(4))
def test_after_any_history_a_pass_over_everything_finds_nothing_new(small: Small, seed: int) -> None:
    dice = random.Random(seed)
    with small.service.unit(small.itself) as unit:
        bring(
            unit,
            "places",
            "network,place,country,latitude,longitude\n192.0.0.0/24,A,AA,50,0\n"
            "192.0.1.0/24,B,AA,50,9\n192.0.2.0/24,C,CC,-30,120\n",
        )
    with small.service.unit(small.itself) as unit:
        unit.db.get_one(Account, small.account("box")).emergency_hours = 4
        for account, kind in itertools.product(("box", "ledger", "rota"), WARNS):
            guard.switch(unit, Setting(kind, LatchMode.WARN, small.account(account), number=1))
    evaluate_flags.evaluate_all(small.service, small.itself.organisation)
    done = []
    for _ in range(18):
        name = dice.choice(list(moves(small, random.Random(0))))
        try:
            with small.service.unit(small.itself) as unit:
                moves(small, dice)[name](unit)
        except (BadInput, Conflict, NotAllowed, NotFound):
            continue
        done.append(name)
        with small.service.unit(small.itself) as unit:
            assert lagging(unit) == [], done
            assert breaches(unit) == looked_up(unit), done
    assert len(set(done)) > 6
