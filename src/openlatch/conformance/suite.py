"""What any adapter has to do: its outcome is asked of the system by the system's own client.

A test module of its own imports everything from here, and has a fixture ``world``, fresh for each test.
"""

from __future__ import annotations

from itertools import islice

import pytest

from openlatch.adapters import Adapter, Holding, Reading
from openlatch.conformance import World
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemDown, SystemRefused
from openlatch.json_values import JsonObject

__all__ = [
    "test_a_reading_is_whole_and_holds_together",
    "test_a_reading_that_breaks_off_is_no_reading",
    "test_a_session_is_ended_and_a_login_locked",
    "test_a_system_that_is_away_or_refuses_is_told_apart_and_keeps_the_secret",
    "test_names_from_outside_do_no_harm",
    "test_what_has_not_changed_need_not_be_told_again",
    "test_what_is_reduced_is_less_and_never_more",
    "test_what_is_taken_away_is_gone_once_and_nothing_else_is",
    "test_what_was_taken_away_can_be_given_again",
]


def held(adapter: Adapter, world: World, who: str) -> Holding | None:
    found = [h for h in Reading.of(adapter.read()).holdings if (h.account, h.holder) == (world.account, who)]
    return found[0] if found else None


def carry_out(adapter: Adapter, kind: StepKind, detail: JsonObject) -> list[str]:
    """Every move of a plan, as the worker carries them out; the last has to be confirmed."""
    moves = adapter.plan(kind, detail)
    assert moves
    said = [adapter.apply(move.kind, move.detail) for move in moves]
    assert [adapter.confirm(move.kind, move.detail) for move in moves] == [None] * len(moves)
    return said


def test_a_reading_is_whole_and_holds_together(world: World) -> None:
    """Everything that it names is in it, times are instants, and reading again gives the same."""
    adapter = world.adapter()
    adapter.check()
    reading = Reading.of(adapter.read())
    levels, accounts = {x.key for x in reading.levels}, {x.handle for x in reading.accounts}
    logins, parts = {x.handle for x in reading.logins}, {(x.account, x.handle) for x in reading.parts}
    assert all(level.permissions and level.sentence.endswith(".") for level in reading.levels)
    for holding in reading.holdings:
        assert holding.account in accounts
        assert holding.holder in (accounts if holding.holder_is_account else logins)
        assert holding.level in levels or (not holding.level and holding.parts)
        assert all((holding.account, part) in parts and level in levels for part, level in holding.parts)
        assert holding.handle
        assert holding.until is None or holding.until.tzinfo
    assert all(p.login in logins and p.started_at.tzinfo and p.last_seen_at.tzinfo for p in reading.presences)
    assert all(used.account in {"", *accounts} and used.holder in logins for used in reading.used)
    assert {h.holder for h in reading.holdings if h.account == world.account} >= {world.goes, world.stays}
    again = Reading.of(world.adapter().read())
    assert (again.accounts, again.logins, again.holdings) == (reading.accounts, reading.logins, reading.holdings)


def test_a_reading_that_breaks_off_is_no_reading(world: World) -> None:
    """However much of it came: what was not seen may be there."""
    found = list(world.adapter().read())
    with pytest.raises(SystemDown, match="broke off"):
        Reading.of(islice(found, len(found) - 1))


def test_what_is_taken_away_is_gone_once_and_nothing_else_is(world: World) -> None:
    """By the system's own word; the second time it looks and changes nothing."""
    adapter = world.adapter()
    holding = held(adapter, world, world.goes)
    assert holding is not None
    assert world.asked(world.goes)
    before = world.asked(world.stays)
    assert all(adapter.confirm(m.kind, m.detail) for m in adapter.plan(StepKind.REMOVE, holding.handle))
    carry_out(adapter, StepKind.REMOVE, holding.handle)
    assert world.asked(world.goes) == ""
    assert world.asked(world.stays) == before
    assert held(adapter, world, world.goes) is None
    assert all("already" in said for said in carry_out(adapter, StepKind.REMOVE, holding.handle))


def test_what_is_reduced_is_less_and_never_more(world: World) -> None:
    """To a level that the adapter says it can set."""
    adapter = world.adapter()
    holding = held(adapter, world, world.goes)
    assert holding is not None
    levels = [level.key for level in Reading.of(adapter.read()).levels]
    lower = next((key for key in reversed(levels) if adapter.can_reduce(holding.level, key)), None)
    assert not adapter.can_reduce(holding.level, holding.level)
    assert (lower is not None) == world.reduces
    if lower is None:
        return
    before = world.asked(world.goes)
    carry_out(adapter, StepKind.REDUCE, {**holding.handle, "to": lower})
    reduced = held(adapter, world, world.goes)
    assert reduced is not None
    assert reduced.level == lower
    assert world.asked(world.goes) not in ("", before)


def test_what_was_taken_away_can_be_given_again(world: World) -> None:
    """As it was, where the system lets Open Latch give."""
    adapter = world.adapter()
    holding = held(adapter, world, world.stays)
    assert holding is not None
    before = world.asked(world.stays)
    assert world.gives_again == (StepKind.GIVE in adapter.can.steps)
    if not world.gives_again:
        return
    carry_out(adapter, StepKind.REMOVE, holding.handle)
    assert world.asked(world.stays) == ""
    detail = adapter.again(holding.handle) or adapter.holding(world.account, world.stays, holding.level)
    assert adapter.confirm(StepKind.GIVE, detail)
    adapter.apply(StepKind.GIVE, detail)
    assert adapter.confirm(StepKind.GIVE, detail) is None
    assert "already" in adapter.apply(StepKind.GIVE, detail)
    again = held(adapter, world, world.stays)
    assert again is not None
    assert (again.level, again.until, world.asked(world.stays)) == (holding.level, holding.until, before)
    if not world.gives_new:
        with pytest.raises(SystemRefused, match="by hand"):
            adapter.holding(world.account, world.stays, holding.level)


def test_a_session_is_ended_and_a_login_locked(world: World) -> None:
    """What the adapter says it can."""
    adapter = world.adapter()
    assert (world.session is not None) == adapter.can.sessions
    if world.session is not None:
        login, goes_on = world.session()
        assert goes_on()
        (presence,) = [p for p in Reading.of(adapter.read()).presences if p.login == login]
        adapter.apply(StepKind.END_SESSIONS, presence.handle)
        assert not goes_on()
        assert adapter.confirm(StepKind.END_SESSIONS, presence.handle) is None
        assert "already" in adapter.apply(StepKind.END_SESSIONS, presence.handle)
    assert (world.locked is not None) == (StepKind.LOCK in adapter.can.steps)
    if world.locked is not None:
        who = world.lockable or world.stays
        assert not world.locked(who)
        adapter.apply(StepKind.LOCK, {"login": who})
        assert world.locked(who)
        assert "already" in adapter.apply(StepKind.LOCK, {"login": who})
        assert any(x.handle == who and x.locked for x in Reading.of(adapter.read()).logins)
        assert adapter.confirm(StepKind.UNLOCK, {"login": who})
        adapter.apply(StepKind.UNLOCK, {"login": who})
        assert not world.locked(who)
        assert "already" in adapter.apply(StepKind.UNLOCK, {"login": who})


def test_what_has_not_changed_need_not_be_told_again(world: World) -> None:
    """By stamps, where the system has them: an account is told anew once something in it has changed."""
    adapter = world.adapter()
    first = Reading.of(adapter.read())
    stamps = {account.handle: account.stamp for account in first.accounts if account.stamp}
    assert bool(stamps) == adapter.can.stamps
    again = Reading.of(adapter.read(stamps))
    assert {x.account for x in again.unchanged} == set(stamps)
    assert {h.account for h in again.holdings} == {h.account for h in first.holdings} - set(stamps)
    assert (again.accounts, again.logins) == (first.accounts, first.logins)
    holding = held(adapter, world, world.goes)
    assert holding is not None
    carry_out(adapter, StepKind.REMOVE, holding.handle)
    later = Reading.of(adapter.read(stamps))
    assert world.account not in {x.account for x in later.unchanged}
    assert world.goes not in {h.holder for h in later.holdings if h.account == world.account}


def test_a_system_that_is_away_or_refuses_is_told_apart_and_keeps_the_secret(world: World) -> None:
    """With what to do; the secret is in no message."""
    secret = "a secret that is wrong"
    with pytest.raises(SystemDown) as down:
        world.adapter(**world.unreachable).check()
    assert down.value.remedy
    if world.secret:
        with pytest.raises((SystemRefused, SystemDown)) as refused:
            world.adapter(secret).check()
        assert secret not in f"{refused.value.detail} {refused.value.remedy} {refused.value!r}"
        assert refused.value.remedy


NAMES = ('x" y', "x\r\nLOGOUT", "../../etc/passwd", "*)(uid=*", "x; drop role m_oduya", "ü 漢")


def test_names_from_outside_do_no_harm(world: World) -> None:
    """Whatever stands where a login's name is expected, nobody else's access changes."""
    adapter = world.adapter()
    holding = held(adapter, world, world.stays)
    assert holding is not None
    before = world.asked(world.stays), world.asked(world.goes)
    for name in NAMES:
        if world.spoilt is not None:
            handle = world.spoilt(holding.handle, name)
        else:
            handle = {key: name if value == world.stays else value for key, value in holding.handle.items()}
        assert handle != holding.handle
        try:
            for move in adapter.plan(StepKind.REMOVE, handle):
                adapter.apply(move.kind, move.detail)
        except (SystemRefused, SystemDown):
            pass
        assert (world.asked(world.stays), world.asked(world.goes)) == before, name
