"""What has to happen for access to end: the preview, the order of steps, tries and waits."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from uuid import UUID

from hypothesis import given
from hypothesis import strategies as st

from openlatch.core import retries
from openlatch.core.register import (
    Account,
    App,
    Grant,
    Holder,
    Level,
    Membership,
    Permission,
    Person,
    Register,
    Team,
    Term,
)
from openlatch.core.revocations import plan as core
from openlatch.core.revocations import preview as core_preview
from openlatch.core.revocations import step_states
from openlatch.core.states import GRANTS, may_become
from openlatch.core.time_windows import Window
from openlatch.core.vocabulary import GrantState, HolderKind, Reach, Standing, StepKind, StepState

NOW = datetime(2026, 3, 10, 12, tzinfo=UTC)
SEE, CHANGE = Permission("see", "See", Reach.OBSERVE), Permission("change", "Change", Reach.OPERATE)
READER = Level(UUID(int=1), "Reader", "", frozenset({SEE}))
OPERATOR = Level(UUID(int=2), "Operator", "", frozenset({SEE, CHANGE}))
MARA = Holder(HolderKind.PERSON, UUID(int=10))
APP = Holder(HolderKind.APP, UUID(int=11))
TEAM = Holder(HolderKind.TEAM, UUID(int=12))
BOX, LEDGER = UUID(int=20), UUID(int=21)


def grant(n: int, holder: Holder, level: Level, account: UUID = BOX, until: datetime | None = None) -> Grant:
    return Grant(UUID(int=100 + n), account, holder, GrantState.ACTIVE, (Term(level, Window(None, until)),))


OWN, BY_TEAM, BY_APP = grant(1, MARA, OPERATOR), grant(2, TEAM, READER), grant(3, APP, READER)
THROUGH = grant(4, Holder(HolderKind.ACCOUNT, BOX), READER, LEDGER)
WORLD = Register.of(
    people=[Person(MARA.id, "Mara", standing=Standing.LEFT)],
    teams=[Team(TEAM.id, "Wardens")],
    apps=[App(APP.id, "Sync")],
    accounts=[Account(BOX, "Box"), Account(LEDGER, "Ledger", MARA.id)],
    grants=[OWN, BY_TEAM, BY_APP, THROUGH],
    memberships=[Membership(UUID(int=200), TEAM.id, MARA)],
)
SESSION = core.LiveSession(UUID(int=300), BOX, MARA, True, {"pid": 1})


def test_the_preview_tells_what_ends_from_what_remains_by_another_path() -> None:
    """Mara loses changing, and keeps seeing through her team, though the register knows that she has left."""
    preview = core_preview.preview(WORLD, [core.Target(OWN, True, {})], [SESSION], NOW)
    (here,) = [c for c in preview.changes if c.account == BOX]
    assert here.ends == {CHANGE}
    assert [p.words for p in here.remains] == ["Mara belongs to Wardens, Wardens holds “Reader” on Box"]
    assert [a.name for a in preview.without_owner] == ["Box"]
    assert preview.undo_alone
    assert preview.apps_that_stop == ()


def test_the_preview_follows_accounts_that_are_holders_themselves() -> None:
    """Whoever acted in Ledger through Box loses that too; Mara still owns Ledger."""
    preview = core_preview.preview(WORLD, [core.Target(g, True, {}) for g in (OWN, BY_TEAM, BY_APP)], [], NOW)
    ledger = {c.holder: c for c in preview.changes if c.account == LEDGER}
    assert ledger[APP].ends == {SEE}
    assert [p.level for p in ledger[MARA].remains] == [None]
    assert {c.holder for c in preview.apps_that_stop} == {APP}


def test_rights_go_before_sessions_and_reading_again_comes_last() -> None:
    """A session ended first would come back with the rights that it still has."""
    steps = core.plan(WORLD, [core.Target(OWN, True, {"role": "box", "member": "mara"})], [SESSION])
    assert [s.kind for s in steps] == [StepKind.REMOVE, StepKind.END_SESSIONS, StepKind.READ_AGAIN]
    by_hand = core.plan(WORLD, [core.Target(OWN, False, {})], [])
    assert [s.kind for s in by_hand] == [StepKind.BY_HAND]


def test_a_shorter_time_alone_needs_no_step_in_the_system() -> None:
    """The register keeps it, and ends the grant when the time comes."""
    sooner = core.Trim(until=NOW + timedelta(days=3))
    assert core.plan(WORLD, [core.Target(OWN, True, {}, sooner)], []) == ()
    lower = core.plan(WORLD, [core.Target(OWN, True, {}, core.Trim(READER))], [])
    assert lower[0].kind is StepKind.REDUCE


@given(
    st.sampled_from([READER, OPERATOR]),
    st.none() | st.integers(-9, 9),
    st.sampled_from([None, READER, OPERATOR]),
    st.none() | st.integers(-9, 9),
)
def test_a_trim_never_gives_more_than_there_was(
    held: Level, until: int | None, lower: Level | None, sooner: int | None
) -> None:
    """Neither a further reach nor a later end."""
    end = None if until is None else NOW + timedelta(days=until)
    trim = core.Trim(lower, None if sooner is None else NOW + timedelta(days=sooner))
    (term,) = core_preview.trimmed_terms(grant(9, MARA, held, until=end), trim)
    assert term.level.reach <= held.reach
    if end is not None:
        assert term.window.until is not None
        assert term.window.until <= end


def _steps(
    *states: tuple[StepKind, int, step_states.Progress],
) -> list[tuple[StepKind, UUID | None, step_states.Progress]]:
    return [(kind, UUID(int=system), progress) for kind, system, progress in states]


def test_a_step_that_waits_holds_up_its_own_system_only() -> None:
    """Other systems go on; nothing is read again before what comes before it there is done."""
    waits = step_states.failed(step_states.Progress(StepState.OPEN, 1), "down", NOW)
    fresh = step_states.Progress(StepState.OPEN)
    steps = _steps((StepKind.REMOVE, 1, waits), (StepKind.REMOVE, 2, fresh), (StepKind.READ_AGAIN, 1, fresh))
    assert step_states.next_due(steps, NOW) == 1
    steps[1] = (StepKind.REMOVE, UUID(int=2), step_states.succeeded(fresh, "done", "Telemetry", NOW))
    assert step_states.next_due(steps, NOW) is None
    assert step_states.next_due(steps, NOW + timedelta(seconds=2)) == 0


def test_a_failing_step_is_tried_less_and_less_often_and_never_given_up() -> None:
    """Two seconds at first, a quarter of an hour at most."""
    waits = [retries.wait_after(tries) for tries in range(1, 30)]
    assert waits == sorted(waits)
    assert (waits[0], waits[-1]) == (timedelta(seconds=2), timedelta(minutes=15))
    assert not step_states.is_finished([step_states.failed(step_states.Progress(StepState.OPEN, 29), "down", NOW)])


def test_what_a_read_contradicts_is_open_again() -> None:
    """A system that says done when it isn't does not end the plan."""
    progress = step_states.contradicted(step_states.Progress(StepState.DONE, 1), "still there", NOW)
    assert progress.state is StepState.WAITING
    assert "still there" in progress.answer


def test_the_states_of_a_grant() -> None:
    """Every allowed change, and no other."""
    allowed = {(a, b) for a in GrantState for b in GrantState if may_become(GRANTS, a, b)}
    assert allowed == {
        ("pending", "active"),
        ("pending", "ended"),
        ("active", "suspended"),
        ("active", "revoking"),
        ("active", "ended"),
        ("suspended", "active"),
        ("suspended", "revoking"),
        ("suspended", "ended"),
        ("revoking", "ended"),
        ("revoking", "active"),
    }
