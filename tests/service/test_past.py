"""Who could do what: random histories asked about afterwards give the answers of the time; the journal agrees."""

from __future__ import annotations

import io
import random
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import UUID

import psycopg
import pytest
from sqlalchemy import select, text
from sqlalchemy.exc import ProgrammingError

from openlatch.core.access import paths as access_paths
from openlatch.core.register import Holder
from openlatch.core.vocabulary import GrantState, HolderKind
from openlatch.errors import BadInput, NotAllowed, NotFound
from openlatch.service import imports
from openlatch.service.access import charts, queries
from openlatch.service.access.queries import Question, Wish
from openlatch.service.changes import changes
from openlatch.service.grants.change_types import Change, ChangeKind
from openlatch.service.revocations import prepare, revoke
from openlatch.service.unit import Service, Unit
from openlatch.store.access import as_of, subgraph
from openlatch.store.access.as_of import Moment
from openlatch.store.tables import Account, Grant, JournalEntry, Membership, Team, Version
from tests.seeds import seeds
from tests.service.conftest import Small


class Now:
    """The time as the machine shows it: the database's own clock keeps the versions."""

    @property
    def now(self) -> datetime:
        return datetime.now(UTC)

    def __call__(self) -> datetime:
        return self.now


@pytest.fixture
def real(small: Small) -> Small:
    """The small register, but with the time of the machine."""
    made = small.service
    service = Service(
        made.engine,
        made.cipher,
        Now(),
        address=made.address,
        signing_seed=made.signing_seed,
        evidence_seed=made.evidence_seed,
    )
    return Small(service, small.itself, Now())  # type: ignore[arg-type]


Answer = frozenset[tuple[UUID, UUID | None, str, tuple[UUID, ...]]]


def answers(paths: list[access_paths.Path]) -> Answer:
    """Paths as something that can be compared."""
    return frozenset((p.holder.id, p.level.id if p.level else None, p.words, p.grants) for p in paths)


def everything_now(unit: Unit) -> dict[str, Answer]:
    found = {}
    for account in unit.db.scalars(select(Account)):
        register = subgraph.around_accounts(unit.db, [account.id])
        paths = access_paths.everyone_reaching(register, account.id, unit.now)
        found[str(account.key)] = answers(paths)
        for holder in {path.holder for path in paths}:
            # Asked about one of them alone, only what leads from there to the account is read.
            small = access_paths.paths_to(subgraph.between(unit.db, holder, account.id), holder, account.id, unit.now)
            assert answers(small) == answers([path for path in paths if path.holder == holder])
    return found


def everything_then(unit: Unit, moment: Moment) -> dict[str, Answer]:
    found = {}
    for account in unit.db.scalars(select(Account)):
        register = as_of.around_accounts(unit.db, unit.service.archive, [account.id], moment)
        found[str(account.key)] = answers(access_paths.everyone_reaching(register, account.id, moment.at))
    return found


def bring(unit: Unit, kind: str, written: str) -> None:
    report = imports.bring(unit, kind, "csv", io.BytesIO(written.encode()), keep_good=False, try_only=False)
    assert report.kept, report.errors


def moves(dice: random.Random) -> list[Callable[[Unit], None]]:  # noqa: C901  a list of small ones
    """What can happen to who reaches what."""

    def some(unit: Unit, *states: str) -> Grant | None:
        rows = unit.db.scalars(select(Grant).where(Grant.state.in_(states)).order_by(Grant.id)).all()
        return dice.choice(rows) if rows else None

    def give(unit: Unit) -> None:
        account, level = dice.choice([("box", "read"), ("box", "run"), ("ledger", "pay"), ("rota", "read")])
        bring(unit, "grants", f"account,holder,level,given_by\n{account},{dice.choice(PEOPLE)},{level},ines\n")

    def change(kind: ChangeKind, *states: str) -> Callable[[Unit], None]:
        def act(unit: Unit) -> None:
            grant = some(unit, *states)
            if grant is not None:
                changes.carry_out(unit, Change(kind, "Test.", (grant.id,)))

        return act

    def end(unit: Unit) -> None:
        grant = some(unit, "active")
        if grant is not None:
            revoke.start(unit, prepare.Wish(grants=(grant.id,)), "Test.")

    def join(unit: Unit) -> None:
        bring(unit, "memberships", f"team,member\nwardens,{dice.choice(PEOPLE)}\n")

    def leave(unit: Unit) -> None:
        row = unit.db.scalars(select(Membership).order_by(Membership.id)).first()
        if row is not None:
            unit.db.delete(row)

    def own(unit: Unit) -> None:
        account = unit.db.scalars(select(Account).where(Account.key == "rota")).one()
        account.owner_id = unit.db.execute(
            text("select id from people where key = :k"), {"k": dice.choice(PEOPLE)}
        ).scalar()

    def grow(unit: Unit) -> None:
        bring(
            unit,
            "levels",
            "system,key,name,sentence,permissions\n"
            f"Mail,read,Read{dice.randrange(9)},Can read.,mail.read|Read it|observe\n",
        )

    return [
        give,
        give,
        change(ChangeKind.SUSPEND, "active"),
        change(ChangeKind.RESUME, "suspended"),
        end,
        join,
        leave,
        own,
        grow,
    ]


PEOPLE = ("ines", "mara", "owen", "ada")


def histories(real: Small, seed: int) -> list[tuple[datetime, dict[str, Answer]]]:
    """What happened, and what was answered after each of it."""
    dice = random.Random(seed)
    kept: list[tuple[datetime, dict[str, Answer]]] = []
    for _ in range(14):
        move = dice.choice(moves(dice))
        try:
            with real.service.unit(real.itself) as unit:
                move(unit)
        except (BadInput, NotAllowed, changes.Conflict):
            continue
        time.sleep(0.002)
        with real.service.unit(real.itself) as unit:
            kept.append((unit.now, everything_now(unit)))
        time.sleep(0.002)
    return kept


def told_then(real: Small, kept: list[tuple[datetime, dict[str, Answer]]]) -> None:
    """Each answer is given again, believed then and now."""
    with real.service.unit(real.itself) as unit:
        for at, found in kept:
            assert everything_then(unit, Moment(at, unit.now)) == found
            assert everything_then(unit, Moment(at, at)) == found


@pytest.mark.parametrize("seed", seeds(3))
def test_what_was_answered_then_is_answered_now_about_then(real: Small, seed: int) -> None:
    """After any history, in which nothing was put right afterwards: about each instant, believed then and now."""
    with real.service.unit(real.itself) as unit:
        # A team that lets people in, so that joining and leaving it counts.
        bring(unit, "grants", "account,holder_kind,holder,level,given_by\nrota,team,wardens,read,ines\n")
    kept = histories(real, seed)
    assert len({str(found) for _, found in kept}) > 3
    told_then(real, kept)
    with real.service.unit(real.itself) as unit:
        assert_the_journal_agrees(unit)


def assert_the_journal_agrees(unit: Unit) -> None:
    """Every change of a grant's state that versions show stands in the journal, at the same time."""
    entries: dict[UUID, list[datetime]] = {}
    for entry in unit.db.scalars(select(JournalEntry).where(JournalEntry.subject_kind == "grant")):
        assert entry.subject_id is not None
        entries.setdefault(entry.subject_id, []).append(entry.at)
    changed = unit.db.scalars(select(Version).where(Version.kind == "grants")).all()
    assert changed
    for version in changed:
        row = unit.db.get_one(Grant, version.id)
        if row.state != version.row["state"]:
            # The journal's time is read as its transaction begins to work, the version's as it begins.
            assert any(abs(at - version.until) < timedelta(seconds=1) for at in entries[version.id]), version.row


def test_what_is_put_right_afterwards_counts_for_the_belief_of_now_only(real: Small) -> None:
    """Somebody turns out to have had access since long ago; somebody's end is moved to an earlier day."""
    with real.service.unit(real.itself) as unit:
        before, box = unit.now, real.account("box")
    long_ago = datetime(2026, 2, 1, tzinfo=UTC)
    time.sleep(0.01)
    with real.service.unit(real.itself) as unit:
        bring(unit, "grants", "account,holder,level,given_at\nbox,ada,read,2026-01-15\n")
        bring(unit, "grants", "account,holder,level,until,given_by\nbox,mara,run,2026-11-01,ines\n")

    def holders(moment: Moment) -> set[str]:
        with real.service.unit(real.itself) as unit:
            register = as_of.around_accounts(unit.db, unit.service.archive, [box], moment)
            return {register.name_of(p.holder) for p in access_paths.everyone_reaching(register, box, moment.at)}

    with real.service.unit(real.itself) as unit:
        now = unit.now
    assert "Ada Admin" in holders(Moment(long_ago, now))
    assert "Ada Admin" not in holders(Moment(long_ago, before))
    assert "Ada Admin" not in holders(Moment(datetime(2026, 1, 10, tzinfo=UTC), now))
    assert holders(Moment(before, before)) == {"Ines", "Mara", "Sync"}
    assert holders(Moment(before, now)) == {"Ines", "Sync", "Ada Admin"}


def test_versions_are_written_by_the_database_alone(real: Small) -> None:
    """Whoever serves requests can neither write nor forget one."""
    with pytest.raises(ProgrammingError, match="permission denied"), real.service.unit(real.itself) as unit:
        unit.db.execute(text("delete from versions"))
    with real.service.unit(real.itself) as unit:
        unit.db.execute(text("update people set name = 'Mara B.' where key = 'mara'"))
    with real.service.unit(real.itself) as unit:
        versions = unit.db.scalars(select(Version).where(Version.kind == "people")).all()
        assert [v.row["name"] for v in versions if v.row["key"] == "mara"] == ["Mara"]


# What if, the matrix, the difference.


def test_a_supposed_change_does_what_the_real_one_does(small: Small) -> None:
    """For every kind that can also be made: nothing is changed by supposing, and the shift is the real one."""
    with small.service.unit(small.itself) as unit:
        ident = small.grant("box|team|wardens|read")
        supposed = queries.what_if(unit, [Wish("end", grant=ident)])
        before = everything_now(unit)
    with small.service.unit(small.itself) as unit:
        assert everything_now(unit) == before
        unit.db.get_one(Grant, ident).state = GrantState.SUSPENDED
        unit.db.flush()
        after = everything_now(unit)
    gone = {account: {h for h, *_ in before[account]} - {h for h, *_ in after[account]} for account in before}
    lost = {(s.account.name.lower(), s.holder.id) for s in supposed.shifts if s.last_path_lost}
    assert lost == {(account, holder) for account, holders in gone.items() for holder in holders}
    assert supposed.last_path_lost == len(lost) > 0


def test_every_kind_of_supposed_change(small: Small) -> None:
    """Given, joined, levelled, left, handed over, latched: each says what it would do."""
    box, owen, mara = small.account("box"), small.person("owen"), small.person("mara")
    team = small.id(Team, "wardens")
    ada = Holder(HolderKind.PERSON, small.person("ada"))

    def shifts(*wishes: Wish) -> dict[object, Any]:
        with small.service.unit(small.itself) as unit:
            found = queries.what_if(unit, wishes)
        told = {(s.holder.name, s.account.name): s for s in found.shifts}
        return told | {"breaches": found.breaches}

    given = shifts(Wish("give", account=box, holder=ada, level=small.level("run")))
    assert {p.key for p in given["Ada Admin", "Box"].gained} == {"mail.read", "mail.share"}
    assert {p.key for p in given["Ada Admin", "Ledger"].gained} == {"books.pay"}
    joined = shifts(Wish("join", team=team, holder=ada))
    assert joined["Ada Admin", "Box"].first_path_gained
    less = shifts(Wish("level", grant=small.grant("box|person|mara|run"), level=small.level("read")))
    assert {p.key for p in less["Mara", "Box"].lost} == {"mail.share"}
    left = shifts(Wish("left", person=mara))
    assert {key for key in left if key != "breaches"} == {("Mara", "Box"), ("Mara", "Ledger")}
    both = shifts(Wish("leave", team=team, holder=Holder(HolderKind.PERSON, owen)), Wish("left", person=mara))
    assert ("Owen", "Box") in both
    owner = shifts(Wish("owner", account=box, person=owen))
    assert (owner["Owen", "Box"].owns_now, owner["Ines", "Box"].last_path_lost) == (True, True)
    latch = queries.guard.Setting(queries.guard.LatchKind.NO_OUTSIDERS, queries.guard.LatchMode.HOLD, box)
    assert "Owen" in shifts(Wish("latch", latch=latch))["breaches"][0].fact
    with pytest.raises(BadInput, match="lacks something"), small.service.unit(small.itself) as unit:
        queries.what_if(unit, [Wish("give", account=box)])
    with pytest.raises((NotFound, NotAllowed)), small.acting("owen") as unit:
        queries.what_if(unit, [Wish("left", person=mara)])


def test_the_matrix_and_the_difference_say_what_paths_say(real: Small) -> None:
    """One line a person or app, a column a permission; and who could at one instant and not at another."""
    box = real.account("box")
    with real.service.unit(real.itself) as unit:
        before = unit.now
        found = queries.matrix(unit, box, Question())
    rows = {row.holder.name: row for row in found.rows}
    assert rows["Ines"].owner
    assert rows["Mara"].whole == ["mail.read", "mail.share"]
    assert [p.key for p in found.permissions] == ["mail.read", "mail.share"]
    time.sleep(0.01)
    with real.service.unit(real.itself) as unit:
        changes.carry_out(unit, Change(ChangeKind.SUSPEND, "Test.", (real.grant("box|person|mara|run"),)))
    with real.service.unit(real.itself) as unit:
        told = queries.differ(unit, box, before, unit.now, None).shifts
        assert [s.holder.name for s in told] == ["Mara"]
        assert queries.who_can(unit, real.person("mara"), box, Question(permission="mail.share")).can is False
        assert queries.who_can(unit, real.person("mara"), box, Question(before, permission="mail.share")).can
        shortest = queries.everyone(unit, box, Question(before, shortest=True)).paths
        assert sorted(path.holder.name for path in shortest if not path.left) == sorted(rows)
        # Whoever has left holds it still in the system, and is told.
        assert [path.holder.name for path in shortest if path.left] == ["Edda"]
        gone = queries.who_can(unit, real.person("edda"), box, Question())
        assert (gone.can, [path.left for path in gone.paths]) == (False, [True])
        assert queries.everything(unit, real.person("edda"), Question()).paths[0].left
        with pytest.raises(BadInput, match="Nobody knows yet"):
            queries.everyone(unit, box, Question(believed=unit.now + timedelta(days=1)))


def test_the_database_owner_can_not_be_needed(real: Small, app_url: str) -> None:
    """Versions of one organisation are not seen by another: row-level security covers them."""
    with psycopg.connect(app_url) as db:
        db.execute("select set_config('openlatch.organisation', %s, false)", [str(UUID(int=1))])
        assert db.execute("select count(*) from versions").fetchone() == (0,)


@pytest.mark.parametrize("year", [1, 9999])
def test_a_calendar_of_a_time_of_which_nothing_is_known_is_refused(small: Small, year: int) -> None:
    with pytest.raises(BadInput, match="Nothing is known"), small.service.unit(small.itself) as unit:
        charts.ends(unit, datetime(year, 12, 31, tzinfo=UTC), 24)
