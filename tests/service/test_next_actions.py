"""What to do first: effects as the rules find them, and nothing left behind by finding them."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from typing import Any
from uuid import UUID

import pytest
from sqlalchemy import func, select, text, update

from openlatch.core.flags.next_actions import ActionKind
from openlatch.core.vocabulary import EndedAs, GrantState
from openlatch.errors import BadInput, NotFound
from openlatch.service.attempt import attempt
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.next_actions import choose, matters, suppositions, work_out
from openlatch.service.unit import Unit, Viewer
from openlatch.store.tables import ActionEffect, Flag, Grant, JournalEntry, Notice, Person, Term, Version
from tests.service.conftest import Small


def worked_out(small: Small) -> None:
    work_out.work_out(small.service, small.itself.organisation)


def administrator(small: Small) -> Viewer:
    return Viewer(small.itself.organisation, "Ines", small.as_("ines").person, administrator=True)


def flags_now(small: Small) -> dict[tuple[str, UUID], UUID]:
    with small.service.unit(small.itself) as unit:
        return open_flags(unit)


def open_flags(unit: Unit) -> dict[tuple[str, UUID], UUID]:
    wanted = select(Flag.rule, Flag.subject_id, Flag.id).where(Flag.state == "open")
    return {(rule, subject): ident for rule, subject, ident in unit.db.execute(wanted)}


def test_an_action_clears_what_was_said_and_no_less(small: Small) -> None:
    """The end of each grant, done for real, clears the flags that its effect names, and raises what it tells of."""
    worked_out(small)
    with small.service.unit(small.itself) as unit:
        effects = {row.key: row for row in unit.db.scalars(select(ActionEffect))}
        unit.db.expunge_all()
    ends = [row for key, row in effects.items() if key.startswith("end.") and len(row.proposal["grants"]) == 1]
    assert len(ends) >= 4
    for row in ends:
        before = flags_now(small)
        ident = UUID(row.proposal["grants"][0])
        with small.service.unit(small.itself) as unit, attempt(unit, keep=False) as within:
            grant = within.db.get_one(Grant, ident)
            grant.state, grant.ended_as, grant.ended_at = GrantState.ENDED, EndedAs.REVOKED, unit.now
            evaluate_flags.evaluate(within, [ident])
            after = open_flags(within)
        cleared = {flag for key, flag in before.items() if key not in after}
        assert set(row.clears) == cleared, row.proposal["title"]
        assert bool(row.raises) == bool(after.keys() - before.keys()), row.proposal["title"]


def test_finding_effects_leaves_nothing_behind(small: Small) -> None:
    """No row, version, journal entry, flag or notice is another afterwards."""

    def everything() -> list[object]:
        with small.service.unit(small.itself) as unit:
            db = unit.db
            counts = [db.scalar(select(func.count()).select_from(table)) for table in (JournalEntry, Notice, Version)]
            grants = db.execute(select(Grant.id, Grant.state, Grant.ended_as, Grant.recorded).order_by(Grant.id)).all()
            terms = db.execute(select(Term.id, Term.level_id, Term.until).order_by(Term.id)).all()
            flags = db.execute(select(Flag.id, Flag.state, Flag.score).order_by(Flag.id)).all()
            return [*counts, *grants, *terms, *flags]

    before = everything()
    worked_out(small)
    assert everything() == before
    with small.service.unit(small.itself) as unit:
        assert unit.db.scalar(select(func.count(ActionEffect.id))) or 0 > 10


def test_a_row_that_somebody_holds_is_left_for_the_next_time(small: Small) -> None:
    """Working out neither waits for them nor has them wait."""
    with small.service.unit(small.itself) as unit:
        held = unit.db.scalars(
            select(Grant.id).join(Person, Person.id == Grant.person_id).where(Person.key == "edda")
        ).first()
    with small.service.engine.begin() as other:
        other.execute(
            text("select set_config('openlatch.organisation', :o, true)"), {"o": str(small.itself.organisation)}
        )
        other.execute(text("select 1 from grants where id = :id for update"), {"id": held})
        worked_out(small)
    with small.service.unit(small.itself) as unit:
        keys = set(unit.db.scalars(select(ActionEffect.key)))
    assert f"end.{held}" not in keys
    assert any(key.startswith("end.") for key in keys)


def test_each_sees_what_they_answer_for(small: Small) -> None:
    """An owner is shown actions on their accounts alone; a delegate none."""
    worked_out(small)
    with small.service.unit(small.as_("ines")) as unit:
        mine = choose.page(unit, 100)
    assert {action.account.name for action in mine.actions if action.account} == {"Box"}
    assert mine.flags < len(flags_now(small))
    with small.service.unit(small.as_("owen")) as unit:
        assert choose.page(unit, 100).actions == []
    with small.service.unit(administrator(small)) as unit:
        everything = choose.page(unit, 100)
    assert everything.flags == len(flags_now(small))
    assert everything.clearable == everything.risk
    assert everything.half is not None
    assert everything.nine_tenths is not None
    assert everything.half < everything.nine_tenths <= len(everything.actions)


def test_what_has_been_dealt_with_drops_out_at_once(small: Small) -> None:
    """Before the effects are worked out anew; and they are when that is due."""
    worked_out(small)
    with small.service.unit(administrator(small)) as unit:
        action = next(each for each in choose.page(unit, 100).actions if each.kind == ActionKind.END)
    small.clock.now += timedelta(seconds=1)
    with small.service.unit(small.itself) as unit:
        grant = unit.db.get_one(Grant, action.grants[0])
        grant.state, grant.ended_as, grant.ended_at = GrantState.ENDED, EndedAs.REVOKED, unit.now
        evaluate_flags.evaluate(unit, action.grants)
    with small.service.unit(administrator(small)) as unit:
        shown = choose.page(unit, 100)
        assert action.key not in {each.key for each in shown.actions}
        assert not shown.is_due
    small.clock.now += timedelta(minutes=1)
    with small.service.unit(small.itself) as unit:
        assert work_out.is_due(unit)


def test_only_what_flags_changed_about_is_worked_out_anew(small: Small, monkeypatch: pytest.MonkeyPatch) -> None:
    """The rest is as it was; and after some hours all of it is."""
    worked_out(small)
    tried: list[str] = []
    plain = suppositions.found_under

    def noting(unit: Unit, supposition: suppositions.Supposition, meanwhile: Callable[[], bool]) -> Any:
        tried.append(supposition.changes[0].table.__name__)
        return plain(unit, supposition, meanwhile)

    monkeypatch.setattr(suppositions, "found_under", noting)
    small.clock.now += timedelta(hours=1)
    with small.service.unit(small.itself) as unit:
        before = {row.key: row.clears for row in unit.db.scalars(select(ActionEffect))}
        grant = unit.db.scalars(
            select(Grant).join(Person, Person.id == Grant.person_id).where(Person.key == "edda")
        ).one()
        ident = grant.id
        grant.state, grant.ended_as, grant.ended_at = GrantState.ENDED, EndedAs.REVOKED, unit.now
        evaluate_flags.evaluate(unit, [ident])
    small.clock.now += timedelta(hours=1)
    worked_out(small)
    first = len(tried)
    assert 0 < first < len(before)
    with small.service.unit(small.itself) as unit:
        after = {row.key: row.clears for row in unit.db.scalars(select(ActionEffect))}
    assert f"end.{ident}" in before.keys() - after.keys()
    tried.clear()
    small.clock.now += timedelta(hours=8)
    evaluate_flags.evaluate_all(small.service, small.itself.organisation)
    with small.service.unit(small.itself) as unit:
        unit.db.execute(update(Flag).where(Flag.state == "open").values(worse_at=unit.now))
    small.clock.now += timedelta(hours=1)
    worked_out(small)
    assert len(tried) > first


def test_an_action_that_is_put_off_comes_back(small: Small) -> None:
    """For whoever put it off alone, with a reason, until a day; and it is in the journal."""
    worked_out(small)
    ines, mara = administrator(small), small.as_("mara")
    with small.service.unit(ines) as unit:
        first = choose.page(unit).actions[0]
        until = unit.now + timedelta(days=7)
        for reason, end in (("", until), ("Waiting.", unit.now)):
            with pytest.raises(BadInput):
                choose.postpone(unit, first.key, reason, end, None)
        with pytest.raises(NotFound):
            choose.postpone(unit, f"end.{UUID(int=1)}", "Waiting.", until, None)
        choose.postpone(unit, first.key, "Waiting for the printer.", until, None)
        choose.postpone(unit, first.key, "Waiting for the printing house.", until, None)
    with small.service.unit(ines) as unit:
        page = choose.page(unit, 100)
        assert first.key not in {each.key for each in page.actions}
        assert page.postponed == 1
        again = next(each for each in choose.page(unit, 100, postponed=True).actions if each.key == first.key)
        assert again.later_because == "Waiting for the printing house."
        assert unit.db.scalar(select(func.count()).where(JournalEntry.action == "flag.postponed")) == 2
    with small.service.unit(mara) as unit, pytest.raises(NotFound):
        choose.postpone(unit, f"end.{UUID(int=1)}", "Waiting.", until, None)
    small.clock.now += timedelta(days=8)
    with small.service.unit(ines) as unit:
        assert first.key in {each.key for each in choose.page(unit, 100).actions}


def test_a_matter_has_its_reasons_what_could_be_done_and_what_was_said(small: Small) -> None:
    """Comments are for whoever sees the matter; a mention tells somebody who is here."""
    worked_out(small)
    ines = administrator(small)
    with small.service.unit(ines) as unit:
        key = next(each.matter for each in choose.page(unit, 100).actions if each.kind == ActionKind.END)
        page = matters.page(unit, key)
        assert {flag.id for action in page.actions for flag in action.clears} >= {flag.id for flag in page.flags}
        matters.comment(unit, key, " Asked Mara. ", [small.as_("mara").person])  # type: ignore[list-item]
        with pytest.raises(NotFound):
            matters.comment(unit, key, "Asked Edda.", [small.as_("edda").person])  # type: ignore[list-item]
        with pytest.raises(BadInput):
            matters.comment(unit, key, "  ", [])
        assert [said.text for said in matters.page(unit, key).comments] == ["Asked Mara."]
        assert (
            unit.db.scalars(select(Notice.page).where(Notice.person_id == small.as_("mara").person))
            .all()[-1]
            .endswith(key)
        )
    for who, asked in ((small.as_("owen"), key), (ines, "-~nobody"), (ines, f"-~{UUID(int=1)}")):
        with small.service.unit(who) as unit, pytest.raises(NotFound):
            matters.comment(unit, asked, "Let me in.", [])
