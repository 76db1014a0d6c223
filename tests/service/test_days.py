"""Days: what ends with a day is shown as that day everywhere, where the account or the organisation is."""

from __future__ import annotations

import io
from datetime import UTC, date, datetime
from zoneinfo import ZoneInfo

import pytest
from sqlalchemy import select, update

from openlatch.core.time_windows import end_of_last_day, ends_on, last_day
from openlatch.core.vocabulary import Verdict
from openlatch.errors import BadInput
from openlatch.service import imports
from openlatch.service.changes import changes
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.flags import manage
from openlatch.service.grants.change_types import Change, ChangeKind
from openlatch.service.lists import register
from openlatch.service.own import my_access
from openlatch.service.reviews import decisions, open_round, reminders, reviewers
from openlatch.service.reviews.plans import Review, named
from openlatch.service.revocations import prepare, revoke
from openlatch.store.lists.engine import ListQuery
from openlatch.store.tables import Account, Flag, Item, Organisation, RevocationTarget, Round
from tests.service.conftest import Small

BOX = 'account.name eq "Box"'
AUCKLAND = ZoneInfo("Pacific/Auckland")


@pytest.mark.parametrize("zone", ["UTC", "Europe/London", "Pacific/Auckland", "America/New_York"])
@pytest.mark.parametrize("day", [date(2026, 3, 28), date(2026, 3, 29), date(2026, 10, 25), date(2026, 12, 15)])
def test_a_last_day_comes_back_as_itself(zone: str, day: date) -> None:
    """Also on days with 23 or 25 hours; an end within a day has no last day, but a day on which it ends."""
    there = ZoneInfo(zone)
    end = end_of_last_day(day, there)
    assert end is not None
    assert (last_day(end, there), ends_on(end, there)) == (day, day)
    noon = datetime(2026, 12, 15, 12, tzinfo=UTC)
    assert last_day(noon, there) is None


def _in_auckland(small: Small) -> None:
    """The organisation and its mailbox are where the days begin half a day sooner."""
    with small.service.unit(small.itself) as unit:
        unit.db.execute(update(Organisation).values(time_zone="Pacific/Auckland"))
        unit.db.execute(update(Account).where(Account.key == "box").values(time_zone="Pacific/Auckland"))
    small.service.rulings.clear()


def test_ends_are_shown_by_their_last_day(small: Small) -> None:
    """In lists, on pages, in previews: where the account is, whatever day it is in UTC."""
    _in_auckland(small)
    grant = small.grant_of("mara", "box")
    day = date(2026, 12, 15)
    with small.acting_as_administrator("ada") as unit:
        changes.carry_out(unit, Change(ChangeKind.SET_END, "For the season.", (grant,), last_day=day))
    with small.acting("mara") as unit:
        row = register.row(unit, "grants", grant)
        path = next(p for p in my_access.page(unit).reach if p.grant_id == grant)
    assert row["until"] == datetime(2026, 12, 15, 11, tzinfo=UTC)
    assert row["last_day"] == path.last_day == day


def test_flags_name_the_last_day_of_whoever_leaves(small: Small) -> None:
    """Who leaves on 31 March does not leave on 1 April."""
    _in_auckland(small)
    told = b"key,name,address,inside,standing,leaves_on\nmara,Mara,mara@example.org,yes,leaving,2026-03-31\n"
    with small.service.unit(small.itself) as unit:
        report = imports.bring(unit, "people", "csv", io.BytesIO(told), keep_good=False, try_only=False)
    assert report.kept, report.errors
    with small.service.unit(small.itself) as unit:
        evaluate_flags.evaluate(unit, grants=[small.grant_of("mara", "box")])
        mara = next(row for row in register.page(unit, "people", ListQuery()).rows if row["name"] == "Mara")
    assert mara["leaves_on"] == date(2026, 3, 31)
    assert [s for s in small.open_flags("holder_leaving") if "31 March 2026" in s], small.open_flags()


def test_reviewers_are_told_the_day_that_is_the_last(small: Small) -> None:
    """A round that is due at the end of a day is due on that day."""
    _in_auckland(small)
    with small.service.unit(small.itself) as unit:
        ident = open_round.open_round(unit, Review("Spring", BOX, reviewers=named(small.person("mara"))))
        row = unit.db.get_one(Round, ident)
        row.due_at = end_of_last_day(date(2026, 4, 15), AUCKLAND) or row.due_at
        reminders.tell_reviewers(unit, row)
    assert small.told("mara")[-1].endswith("by 15 April 2026.")


def test_a_last_day_counts_where_the_account_is(small: Small) -> None:
    """For flags that are accepted, access that is trimmed, and decisions; the organisation is elsewhere."""
    with small.service.unit(small.itself) as unit:
        unit.db.execute(update(Account).where(Account.key == "box").values(time_zone="Pacific/Auckland"))
    grant, day = small.grant_of("mara", "box"), date(2026, 12, 15)
    end = datetime(2026, 12, 15, 11, tzinfo=UTC)
    with small.service.unit(small.itself) as unit:
        evaluate_flags.evaluate(unit, grants=[grant])
        flag = unit.db.scalars(select(Flag.id).where(Flag.account_id == small.account("box"))).first()
        assert flag is not None
        (accepted,) = manage.accept(unit, [flag], "Known of.", None, day)
        assert accepted.accepted_until == end
        for until, last in ((end, day), (None, None), (None, date(2026, 3, 1)), (None, date(2300, 1, 1))):
            with pytest.raises(BadInput):
                manage.accept(unit, [flag], "Known of.", until, last)
        ident = open_round.open_round(
            unit, Review("Spring", BOX, acts="at_close", reviewers=named(small.person("ines")))
        )
        item = unit.db.scalars(select(Item).where(Item.round_id == ident, Item.grant_id == grant)).one().id
    with small.acting_as_administrator("ada") as unit:
        trim = decisions.Decision(Verdict.TRIM, "For the season.", trim_last_day=day)
        assert decisions.decide(unit, ident, item, trim).trim_until == end
    with small.acting("ines") as unit:
        with pytest.raises(BadInput, match="too far away"):
            revoke.start(unit, prepare.Wish((grant,), trim_last_day=date(2300, 1, 1)), "For the season.")
        revoke.start(unit, prepare.Wish((grant,), trim_last_day=day), "For the season.")
        assert unit.db.scalars(select(RevocationTarget.trim_until)).one() == end


def test_who_is_away_is_away_by_whole_days_where_the_organisation_is(small: Small) -> None:
    """From the beginning of the first day to the end of the last; not twice, and not from a day that is none."""
    _in_auckland(small)
    first, last = date(2026, 12, 1), date(2026, 12, 15)
    with small.acting("ines") as unit:
        ines = small.person("ines")
        away = reviewers.set_absence(unit, ines, reviewers.Absence(first_day=first, last_day=last))
        assert away.since == datetime(2026, 11, 30, 11, tzinfo=UTC)
        assert away.until == datetime(2026, 12, 15, 11, tzinfo=UTC)
        for wrong in (
            {"since": small.clock(), "first_day": first},
            {"first_day": date(9999, 1, 1)},
            {"last_day": last},
        ):
            with pytest.raises(BadInput):
                reviewers.set_absence(unit, ines, reviewers.Absence(**wrong))
