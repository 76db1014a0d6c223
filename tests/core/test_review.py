"""Reviews: who decides, and what a decision has to say."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from uuid import UUID

import pytest

from openlatch.core import review
from openlatch.core.words import HolderKind, Reach, Verdict
from openlatch.errors import BadInput, Conflict, NotAllowed, OpenLatchError

NOW = datetime(2026, 3, 10, tzinfo=UTC)
MARA, INES, LENE = (UUID(int=n) for n in (1, 2, 3))
ITEM = review.Undecided(HolderKind.PERSON, MARA, INES, Reach.OPERATE, NOW + timedelta(days=30), LENE, 0)


def test_nobody_is_asked_about_their_own_access() -> None:
    """The next in line is, and an administrator when there is none."""
    assert review.assign(ITEM, INES, None) == INES
    assert review.assign(ITEM, INES, MARA) == INES
    assert review.assign(ITEM, MARA, None) is None
    assert review.assign(ITEM, INES, LENE) == LENE


@pytest.mark.parametrize(
    ("choice", "decider", "refusal"),
    [
        (review.Choice(Verdict.KEEP, ""), MARA, NotAllowed),
        (review.Choice(Verdict.REVOKE, " "), LENE, BadInput),
        (review.Choice(Verdict.TRIM, "less is enough"), LENE, BadInput),
        (review.Choice(Verdict.TRIM, "less is enough", Reach.SPEND), LENE, BadInput),
        (review.Choice(Verdict.TRIM, "shorter", until=NOW + timedelta(days=30)), LENE, BadInput),
        (review.Choice(Verdict.TRIM, "shorter", until=NOW), LENE, BadInput),
        (review.Choice(Verdict.KEEP, "", until=NOW + timedelta(days=1)), LENE, BadInput),
    ],
)
def test_unfit_decisions_are_refused(choice: review.Choice, decider: UUID, refusal: type[OpenLatchError]) -> None:
    """One's own access, no reason, a trim that takes nothing away, a keep that trims."""
    with pytest.raises(refusal):
        review.refuse_unfit(ITEM, choice, decider, NOW)


def test_a_keep_needs_a_reason_only_against_an_open_high_flag() -> None:
    """So that most lines go quickly, and the risky ones do not."""
    review.refuse_unfit(ITEM, review.Choice(Verdict.KEEP, ""), LENE, NOW)
    with pytest.raises(BadInput, match="against an open flag"):
        review.refuse_unfit(replace(ITEM, open_high_flags=1), review.Choice(Verdict.KEEP, ""), LENE, NOW)
    review.refuse_unfit(ITEM, review.Choice(Verdict.TRIM, "a week", until=NOW + timedelta(days=7)), LENE, NOW)


def test_a_round_closes_once_and_only_when_all_is_decided() -> None:
    """The counts add up."""
    progress = review.count([Verdict.KEEP, None, Verdict.REVOKE, Verdict.TRIM])
    assert (progress.items, progress.decided, progress.undecided, progress.kept) == (4, 3, 1, 1)
    with pytest.raises(Conflict, match="1 of 4 items"):
        review.refuse_close(progress, closed=False)
    with pytest.raises(Conflict, match="is closed"):
        review.refuse_close(review.count([Verdict.KEEP]), closed=True)
