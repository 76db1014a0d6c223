"""Reviews: who is asked, what is recommended, what a decision has to say, and when reminders come."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from uuid import UUID

import pytest

from openlatch.core.reviews import decisions
from openlatch.core.reviews.assignment import About, Colleague, Line, Place, Staff, assign
from openlatch.core.reviews.recommendations import Evidence, LevelChoice, recommend, smallest_sufficient
from openlatch.core.reviews.reminders import due_reminder
from openlatch.core.time_windows import Window
from openlatch.core.vocabulary import Fate, Reach, Subject, Verdict
from openlatch.errors import BadInput, NotAllowed, OpenLatchError

NOW = datetime(2026, 3, 10, tzinfo=UTC)
MARA, INES, LENE, OWEN, ADA, TEAM = (UUID(int=n) for n in range(1, 7))
AWAY = Window(NOW - timedelta(days=1), NOW + timedelta(days=1))
PEOPLE = {
    MARA: Colleague(MARA, "Mara", manager=LENE),
    INES: Colleague(INES, "Ines", deputy=OWEN),
    LENE: Colleague(LENE, "Lene"),
    OWEN: Colleague(OWEN, "Owen"),
    ADA: Colleague(ADA, "Ada"),
}
STAFF = Staff(PEOPLE, {TEAM: ("Wardens", frozenset({MARA, OWEN}))}, (ADA,))
ABOUT = About(holder=MARA, owner=INES, account_kind="mailbox")
PERSON, MANAGER = Line.PERSON, Place(Line.MANAGER)


def away(person: UUID) -> Staff:
    return replace(STAFF, people={**PEOPLE, person: replace(PEOPLE[person], away=AWAY)})


@pytest.mark.parametrize(
    ("line", "about", "staff", "who", "words"),
    [
        ((), ABOUT, STAFF, INES, "Owner of the account."),
        ((MANAGER,), ABOUT, STAFF, LENE, "Manager of the holder."),
        ((Place(PERSON, MARA),), ABOUT, STAFF, INES, "Owner of the account, since Mara holds it."),
        ((Place(PERSON, LENE, "database"),), ABOUT, STAFF, INES, "Owner of the account."),
        ((Place(PERSON, LENE, "mailbox"),), ABOUT, STAFF, LENE, "Named."),
        ((), replace(ABOUT, given_by=INES), STAFF, ADA, "Administrator, since Ines gave it."),
        ((), ABOUT, away(INES), OWEN, "Deputy of Ines, since Ines is away."),
        ((), replace(ABOUT, holder=OWEN), away(INES), ADA, "Administrator, since Ines is away."),
        ((), replace(ABOUT, given_by=ADA, owner=MARA), STAFF, None, "Nobody may decide it yet, since Mara holds it."),
        (
            (Place(PERSON, LENE),),
            replace(ABOUT, insiders=frozenset({LENE, INES})),
            STAFF,
            INES,
            "Owner of the account, since Lene holds it.",
        ),
    ],
)
def test_the_first_in_line_who_may_decide_is_asked_and_it_says_why(
    line: tuple[Place, ...], about: About, staff: Staff, who: UUID | None, words: str
) -> None:
    """Never the holder nor the giver; deputies for those away; an administrator when nobody is left, counted."""
    found = assign(line, about, staff, NOW)
    assert (found.person, found.words) == (who, words)
    assert found.by_default == (who in (ADA, None))


def test_a_team_is_asked_as_long_as_one_of_it_may_decide() -> None:
    """And a second reviewer is somebody else than the first."""
    line = (Place(Line.TEAM, TEAM),)
    assert assign(line, ABOUT, STAFF, NOW).team == TEAM
    assert assign(line, replace(ABOUT, given_by=OWEN), STAFF, NOW).person == INES
    assert assign((MANAGER,), ABOUT, STAFF, NOW, but=LENE).person == INES


READ = LevelChoice(UUID(int=11), "Read", Reach.OBSERVE, frozenset({"read"}))
ANSWER = LevelChoice(UUID(int=12), "Answer", Reach.OPERATE, frozenset({"read", "send"}))
RUN = LevelChoice(UUID(int=13), "Run", Reach.STEWARD, frozenset({"read", "send", "share"}))
LEVELS = (RUN, READ, ANSWER)
USED = Evidence(Subject.GRANT, (), NOW - timedelta(days=3), Reach.STEWARD, RUN.permissions)


def test_the_smallest_level_that_covers_the_use_is_found_and_none_that_does_not() -> None:
    """It gives less than there is; nothing used says nothing about what would suffice."""

    def smallest(*used: str, held: LevelChoice = RUN) -> LevelChoice | None:
        return smallest_sufficient(LEVELS, held.permissions, held.reach, frozenset(used))

    assert smallest("read") == READ
    assert smallest("read", "send") == ANSWER
    assert smallest("share") is None
    assert smallest("read", held=READ) is None
    assert smallest() is None


def test_what_is_recommended_follows_from_the_facts() -> None:
    """Ending before trimming; a smaller level only where use was watched for long enough."""
    used = {"read": date(2026, 3, 1), "send": date(2025, 1, 1)}
    watched = replace(USED, used=used, observed_since=date(2025, 12, 1))
    found = recommend(watched, LEVELS, NOW)
    assert (found.verdict, found.level) == (Verdict.TRIM, READ)
    assert found.reason == "Of 3 permissions 2 went unused in 180 days; “Read” suffices."
    lately = replace(watched, observed_since=date(2026, 2, 1))
    assert recommend(lately, LEVELS, NOW).reason == "Used 3 days ago."
    assert recommend(replace(watched, rules=("holder_left",)), LEVELS, NOW).verdict is Verdict.REVOKE
    endless = recommend(replace(USED, rules=("no_end_date",)), LEVELS, NOW)
    assert (endless.verdict, endless.until) == (Verdict.TRIM, NOW + timedelta(days=180))
    assert recommend(replace(USED, rules=("outsider_far_reach",)), LEVELS, NOW).verdict is Verdict.KEEP
    assert recommend(Evidence(Subject.EXPOSURE), (), NOW).verdict is Verdict.REVOKE


ITEM = decisions.Undecided(Subject.GRANT, replace(ABOUT, given_by=OWEN), Reach.OPERATE, NOW + timedelta(days=30))
KEEP, TRIM, REVOKE = Verdict.KEEP, Verdict.TRIM, Verdict.REVOKE
Choice = decisions.Choice


@pytest.mark.parametrize(
    ("item", "choice", "decider", "refusal"),
    [
        (ITEM, Choice(KEEP, ""), MARA, NotAllowed),
        (ITEM, Choice(KEEP, ""), OWEN, NotAllowed),
        (ITEM, Choice(REVOKE, " "), LENE, BadInput),
        (replace(ITEM, severity=3), Choice(KEEP, ""), LENE, BadInput),
        (ITEM, Choice(TRIM, "less is enough"), LENE, BadInput),
        (ITEM, Choice(TRIM, "less is enough", Reach.SPEND), LENE, BadInput),
        (ITEM, Choice(TRIM, "shorter", until=NOW + timedelta(days=30)), LENE, BadInput),
        (ITEM, Choice(TRIM, "shorter", until=NOW), LENE, BadInput),
        (ITEM, Choice(KEEP, "", until=NOW + timedelta(days=1)), LENE, BadInput),
        (ITEM, Choice(REVOKE, "She left.", successor=LENE), LENE, BadInput),
        (replace(ITEM, subject=Subject.SESSION), Choice(TRIM, "less", until=NOW), LENE, BadInput),
        (replace(ITEM, subject=Subject.OWNERSHIP), Choice(REVOKE, "She moves."), LENE, BadInput),
    ],
)
def test_unfit_decisions_are_refused(
    item: decisions.Undecided, choice: Choice, decider: UUID, refusal: type[OpenLatchError]
) -> None:
    """One's own access, what one gave, no reason, a trim that takes nothing away, an account left without an owner."""
    with pytest.raises(refusal):
        decisions.refuse_unfit(item, choice, decider, NOW)


def test_fit_decisions_pass_and_a_keep_needs_no_reason_without_a_high_flag() -> None:
    """So that most lines go quickly, and the risky ones do not."""
    decisions.refuse_unfit(replace(ITEM, severity=2), Choice(KEEP, ""), LENE, NOW)
    decisions.refuse_unfit(ITEM, Choice(TRIM, "a week", until=NOW + timedelta(days=7)), LENE, NOW)
    handed = replace(ITEM, subject=Subject.OWNERSHIP)
    decisions.refuse_unfit(handed, Choice(REVOKE, "She moves.", successor=LENE), LENE, NOW)


def test_what_is_flagged_is_not_waved_through() -> None:
    """The refusal names each; ending at one stroke is no waving through."""
    with pytest.raises(BadInput, match=r"that is 12: 0 x; .*9 x; and 2 more"):
        decisions.refuse_waving_through(KEEP, (f"{n} x" for n in range(12)))
    decisions.refuse_waving_through(KEEP, [])
    decisions.refuse_waving_through(REVOKE, ["1 x"])


@pytest.mark.parametrize(
    ("subject", "reach", "fate"),
    [
        (Subject.GRANT, Reach.OBSERVE, Fate.KEEP),
        (Subject.LINK, Reach.SPEND, Fate.SUSPEND),
        (Subject.GRANT, Reach.STEWARD, Fate.REVOKE),
        (Subject.SESSION, None, Fate.KEEP),
        (Subject.OWNERSHIP, Reach.STEWARD, Fate.KEEP),
    ],
)
def test_what_nobody_decided_becomes_what_was_said_for_its_reach(
    subject: Subject, reach: Reach | None, fate: Fate
) -> None:
    """An account is never taken from its owner because nobody decided."""
    undecided = {"observe": "keep", "spend": "suspend", "steward": "revoke"}
    assert decisions.fate_of(undecided, subject, reach) is fate


def test_pace_leaves_breaks_out() -> None:
    """The median between decisions in a row, and the share kept; nothing of somebody who decided nothing."""
    seconds = (0, 4, 8, 20, 20_000, 20_006)
    found = decisions.pace([NOW + timedelta(seconds=s) for s in seconds], kept=3)
    assert (found.decided, found.share_kept, found.seconds) == (6, 0.5, 5.0)
    assert decisions.pace([], 0).seconds is None


@pytest.mark.parametrize(
    ("days_left", "done", "which"),
    [
        (10, [], None),
        (7, [], "7"),
        (5, ["7"], None),
        (1, [], "1"),
        (1, ["7", "1"], None),
        (0, ["1"], "late"),
        (-3, ["late"], None),
    ],
)
def test_each_reminder_comes_once_and_missed_ones_are_not_caught_up(
    days_left: int, done: list[str], which: str | None
) -> None:
    """Seven days before, one day before, and when it is late."""
    assert due_reminder((7, 1), done, NOW + timedelta(days=days_left), NOW) == which
