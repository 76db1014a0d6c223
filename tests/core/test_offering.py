"""What an offer says before it is sent, passwords, comparing levels, and parts of accounts."""

from __future__ import annotations

from dataclasses import replace
from datetime import date, datetime, time, timedelta
from uuid import UUID
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from openlatch.core.access import paths
from openlatch.core.access.paths import Path
from openlatch.core.grants import level_comparison
from openlatch.core.identity import passwords
from openlatch.core.offers import wording
from openlatch.core.register import Holder, Level, Part, Permission, Register, Term
from openlatch.core.time_windows import ALWAYS, WeeklyHours, Window, end_of_last_day
from openlatch.core.vocabulary import HolderKind, Reach
from openlatch.errors import BadInput
from tests.core.test_access import KEEP, NOW, READ, account, grant, person

LONDON = ZoneInfo("Europe/London")
SEE, SEND, PAY = (Permission(k, k.title(), r) for k, r in zip(("see", "send", "pay"), Reach, strict=False))


def test_abilities_say_what_is_new_and_what_stays_out_of_reach() -> None:
    """Against what somebody has already by other paths."""
    level, less = (Level(UUID(int=n), "L", "", frozenset(rights)) for n, rights in ((1, {SEE, SEND}), (2, {SEE})))
    inbox, letters = (Part(UUID(int=n), "P", frozenset({UUID(int=n)})) for n in (7, 8))
    holder = Holder(HolderKind.PERSON, UUID(int=3))

    def by(part: Part | None) -> Path:
        return Path(holder, UUID(int=4), (), less, ALWAYS, part=part)

    found = wording.abilities([Term(level)], [SEE, SEND, PAY], [by(None)])
    assert (found.can, found.new, found.cannot, found.reach) == ((SEE, SEND), (SEND,), (PAY,), Reach.OPERATE)
    # What is held on a part is new on all of it, and on another part; not on the same.
    assert wording.abilities([Term(less)], [SEE], [by(inbox)]).new == (SEE,)
    assert wording.abilities([Term(less, part=letters)], [SEE], [by(inbox)]).new == (SEE,)
    assert wording.abilities([Term(less, part=inbox)], [SEE], [by(inbox)]).new == ()


@pytest.mark.parametrize(
    ("address", "inside", "said"),
    [
        ("mara@example.org", True, 0),
        ("mara@example.ogr", True, 2),
        ("maria@example.org", True, 1),
        ("amra@example.org", False, 1),
        ("somebody@freemail.example", True, 1),
        ("somebody@freemail.example", False, 0),
        ("someone@else.example.net", False, 0),
    ],
)
def test_an_address_to_look_at_twice(address: str, inside: bool, said: int) -> None:
    """One slip away from a known one, in its name or its domain; or a mail service for an inside person."""
    assert len(wording.address_warnings(address, inside, ["mara@example.org"], ["example.org"])) == said


@pytest.mark.parametrize(
    ("password", "said"),
    [
        ("short", "5 characters"),
        ("x" * 129, "129 characters"),
        ("passwordpassword", "many people use"),
        ("abababababababab", "many people use"),
        ("Wim Halloran1", "belong to you"),
        ("wimhalloranhuts", "belong to you"),
        ("hollinfell2026", "belong to you"),
        ("password123456", "too easy"),
        ("iloveyou1234", "too easy"),
        ("123456789012", "too easy"),
    ],
)
def test_passwords_that_are_refused(password: str, said: str) -> None:
    """For their length, or because they are guessed first; never for the kinds of characters in them."""
    with pytest.raises(BadInput, match=said):
        passwords.refuse_weak(password, ("Wim Halloran", "wim.halloran@example.org", "Hollin Fell Huts"))


@pytest.mark.parametrize(
    "password", ["walk the long ridge", "aaaa bbbb cccc dddd", "7777 huts and a lake", "ünïcödé ïs fïne"]
)
def test_passwords_that_are_taken(password: str) -> None:
    """Any characters, blanks among them."""
    passwords.refuse_weak(password, ("Wim Halloran",))


def test_levels_side_by_side_and_whose_rights_a_change_touches() -> None:
    """Only those whose rights really differ; ownership gains nothing."""
    wider = replace(READ, permissions=READ.permissions | {PAY})
    assert level_comparison.compare(READ, wider) == level_comparison.Comparison(tuple(READ.permissions), (), (PAY,))
    before = Register.of(grants=[grant(1, person(1), 0), grant(2, person(2), 0, KEEP)], accounts=[])
    (effect,) = level_comparison.effects(before, before.with_levels([wider]), [account(0).id], NOW)
    assert (effect.holder, effect.gains, effect.loses) == (person(1), (PAY,), ())
    (back,) = level_comparison.effects(before.with_levels([wider]), before, [account(0).id], NOW)
    assert (back.gains, back.loses) == ((), (PAY,))


def test_a_part_of_an_account_is_all_that_one_reaches() -> None:
    """Not the rest of it, and not the accounts behind it; and a part lost is a right lost, unless the whole is left."""
    inbox = Part(UUID(int=81), "Inbox", frozenset({UUID(int=81)}))
    part = grant(1, person(1), 0)._replace(terms=(Term(READ, part=inbox),))
    register = Register.of(grants=[part, grant(2, account(0), 1)])
    (path,) = paths.everything_reached(register, person(1), NOW)
    assert (path.account, path.part) == (account(0).id, inbox)
    assert "on “Inbox” in" in path.words
    assert {p.holder for p in paths.everyone_reaching(register, account(1).id, NOW)} == set()
    asked = (register, person(1), account(0).id, "see")
    assert paths.can(*asked, UUID(int=81), NOW)
    assert not paths.can(*asked, UUID(int=82), NOW)
    assert not paths.can(*asked, None, NOW)
    whole = paths.paths_to(Register.of(grants=[grant(3, person(1), 0)]), person(1), account(0).id, NOW)
    assert paths.lost([path], []) == READ.permissions
    assert paths.lost([path], whole) == frozenset()
    assert paths.lost(whole, [path]) == READ.permissions


@pytest.mark.parametrize(
    ("day", "ends"),
    [
        (date(2026, 3, 29), datetime(2026, 3, 29, 23)),
        (date(2026, 3, 28), datetime(2026, 3, 29, 0)),
        (date(2026, 10, 25), datetime(2026, 10, 26, 0)),
        (date(2026, 10, 24), datetime(2026, 10, 24, 23)),
        (date(2028, 2, 29), datetime(2028, 3, 1, 0)),
        (date(2027, 2, 28), datetime(2027, 3, 1, 0)),
    ],
)
def test_a_last_day_counts_to_its_end_where_the_account_is(day: date, ends: datetime) -> None:
    """On days with 23 or 25 hours, and in leap years."""
    found = end_of_last_day(day, LONDON)
    assert found is not None
    assert found.replace(tzinfo=None) == ends
    assert Window(None, found).contains(datetime.combine(day, time(23, 59, 59), LONDON))


@given(st.datetimes(datetime(2026, 1, 1), datetime(2028, 1, 1), timezones=st.just(LONDON)))
def test_weekly_hours_follow_the_clocks_of_the_account(at: datetime) -> None:
    """Whatever the clocks do, nine in the morning there is nine in the morning."""
    hours = WeeklyHours(frozenset(range(5)), time(9), time(17))
    seen = at.astimezone(ZoneInfo("UTC")).astimezone(LONDON)
    assert hours.contains(at, LONDON) == (seen.weekday() < 5 and 9 <= seen.hour < 17)


def test_hours_in_words_and_how_long_an_offer_stands() -> None:
    """As one reads them; and never for longer than a season."""
    assert wording.hours_in_words(WeeklyHours(frozenset(range(5)), time(8), time(18))) == (
        "Monday to Friday, 08:00 to 18:00"
    )
    assert wording.hours_in_words(WeeklyHours(frozenset({5, 6}), time(22), time(2))) == (
        "Saturday, Sunday, 22:00 to 02:00"
    )
    assert wording.runs_out(NOW, 48) == NOW + timedelta(days=2)
    assert wording.runs_out(NOW, 10**6) == NOW + timedelta(days=90)
