"""Use of grants by day and permission: kept once, from wherever it is told, and what it says about what is needed."""

from __future__ import annotations

import io
from datetime import UTC, date, datetime, timedelta
from uuid import UUID

import pytest
from sqlalchemy import select, text

from openlatch.errors import BadInput, NotFound
from openlatch.service import imports
from openlatch.service.grants import usage
from openlatch.service.unit import Unit
from openlatch.store.tables import Grant, Use
from tests.service.conftest import Small


def bring(unit: Unit, *days: tuple[str, str]) -> imports.Report:
    """Use of Mara's grant on the box, as a file tells it: permission and day."""
    head = "account,holder_kind,holder,permission,last_used_at\n"
    lines = "".join(f"box,person,mara,{permission},{day}\n" for permission, day in days)
    return imports.bring(unit, "use", "csv", io.BytesIO((head + lines).encode()), keep_good=False, try_only=False)


def kept(small: Small, grant: UUID) -> dict[str, str]:
    with small.service.unit(small.itself) as unit:
        rows = unit.db.execute(select(Use.permission, Use.days.cast(Use.days.type)).where(Use.grant_id == grant))
        return {permission: ", ".join(f"{r.lower} to {r.upper}" for r in days) for permission, days in rows}


def test_days_are_kept_once_and_days_in_a_row_as_one_stretch(small: Small) -> None:
    """Brought twice or in any order; what is used by a permission is use at all."""
    grant = small.grant("box|person|mara|run")
    days = [
        ("mail.read", "2026-02-03"),
        ("mail.read", "2026-02-01"),
        ("mail.share", "2026-02-02"),
        ("mail.read", "2026-02-02"),
    ]
    for _ in range(2):
        with small.service.unit(small.itself) as unit:
            assert bring(unit, *days).kept
    found = kept(small, grant)
    assert found["mail.read"] == "2026-02-01 to 2026-02-04"
    assert found["mail.share"] == "2026-02-02 to 2026-02-03"
    assert "2026-02-01 to 2026-02-04" in found[""]


def test_what_is_used_now_counts_from_now_and_its_flag_clears(small: Small) -> None:
    """Noted once or often in a day; nothing that is not used any more is touched."""
    small.clock.now += timedelta(days=200)
    with small.service.unit(small.itself) as unit:
        grant, other = small.grant("box|person|mara|run"), small.grant("ledger|account|box|pay")
        before = unit.db.get_one(Grant, other).last_used_at
        usage.note(unit, [grant, grant])
        usage.note(unit, [])
    with small.service.unit(small.itself) as unit:
        assert unit.db.get_one(Grant, grant).last_used_at == small.clock.now
        assert unit.db.get_one(Grant, other).last_used_at == before
    assert kept(small, grant)[""].endswith(f"{small.clock.now.date()} to {small.clock.now.date() + timedelta(days=1)}")
    assert not any("Mara last used" in sentence for sentence in small.open_flags("unused"))


def test_what_was_used_says_which_level_would_do(small: Small) -> None:
    """With what it gives up in plain words; a season that shows in the days makes it less sure."""
    grant = small.grant("box|person|mara|run")
    with small.service.unit(small.itself) as unit:
        empty = usage.of_grant(unit, grant, 90)
        assert (empty.level, empty.sure) == (None, 0)
        unit.db.execute(text("delete from uses"))
        assert bring(unit, ("mail.read", "2025-03-10"), ("mail.read", "2025-11-20"), ("mail.read", "2026-03-09")).kept
        unit.db.flush()
        found = usage.of_grant(unit, grant, 90)
    assert found.level.name == "Read"
    assert found.gives_up == ["Let others in"]
    assert (found.sure, found.longest_pause) == (50, 254)
    rights = {right.key: (right.days_used, right.last_used, right.within) for right in found.rights}
    assert rights == {"mail.read": (3, date(2026, 3, 9), True), "mail.share": (0, None, False)}
    assert (found.days_used, found.watched_since) == (3, date(2025, 3, 10))


def test_nobody_is_told_of_the_use_of_others(small: Small) -> None:
    """And no span that makes no sense is looked at."""
    grant = small.grant("box|person|mara|run")
    with pytest.raises(NotFound), small.acting("owen") as unit:
        usage.of_grant(unit, grant, 90)
    for days in (0, -1, 4000):
        with pytest.raises(BadInput, match="days were given"), small.service.unit(small.itself) as unit:
            usage.of_grant(unit, grant, days)


def test_use_that_a_file_tells_wrongly_is_refused_with_its_line(small: Small) -> None:
    """Days to come, permissions that nobody has, grants that are not there."""
    to_come = (datetime.now(UTC) + timedelta(days=900)).date().isoformat()
    grant = small.grant("box|person|mara|run")
    before, refused = kept(small, grant), ""
    for line in (("mail.read", to_come), ("mail.read", "yesterday"), ("mail.read", "2026-02-30")):
        with small.service.unit(small.itself) as unit:
            report = bring(unit, ("mail.read", "2026-02-01"), line)
        assert not report.kept
        refused = refused or report.errors[0].reason
        assert [error.line for error in report.errors] == [3]
    assert "lies ahead" in refused
    assert kept(small, grant) == before
