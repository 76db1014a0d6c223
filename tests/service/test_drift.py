"""Where systems depart from the register: seen, told apart, mended, and never more than what was seen."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from datetime import timedelta
from typing import Any
from uuid import UUID

import pytest
from sqlalchemy import func, select

from openlatch.adapters import (
    NOTHING,
    Abilities,
    Adapter,
    Found,
    FoundLevel,
    FoundPart,
    FoundRule,
    Holding,
    Login,
    RuleManner,
    SharedAccount,
    Unchanged,
    Whole,
)
from openlatch.core.exposure.rules import Combining, Right
from openlatch.core.vocabulary import Reach, StepKind
from openlatch.errors import BadInput, Conflict, SystemDown
from openlatch.service import connections, imports
from openlatch.service.changes import changes
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.grants import provisioning
from openlatch.service.grants.change_types import Change, ChangeKind
from openlatch.service.systems import comparison, login_matching, readings
from openlatch.service.systems.comparison import Outcome
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.tables import Exposure, Flag, Grant, Handle, JournalEntry, Level, Mark, Person, System, Term
from openlatch.worker import tasks
from tests.adapters.worlds import World
from tests.conftest import Clock
from tests.service.conftest import lagging
from tests.service.ending import connect, grant_of

pytestmark = pytest.mark.usefixtures("nobody_gets_in_unguarded")

SEE = FoundLevel("see", "Seer", "Can see.", (("see", "See it", Reach.OBSERVE),))
DO = FoundLevel("do", "Doer", "Can do.", (("see", "See it", Reach.OBSERVE), ("do", "Do it", Reach.OPERATE)))


class Told:
    """A system that is just what a test says."""

    settings_taken = ()
    can = Abilities(steps=frozenset(), rights=())
    found: list[Found]
    asked: list[dict[str, str]]

    def __init__(self) -> None:
        self.found, self.asked, self.meanwhile = [], [], lambda: None

    def __call__(self, settings: Any, secret: str) -> Adapter:
        return self  # type: ignore[return-value]

    def check(self) -> None:
        pass

    def read(self, since: Mapping[str, str] = NOTHING) -> Iterator[Found]:
        self.asked.append(dict(since))
        yield from (SEE, DO)
        yield from self.found
        self.meanwhile()
        yield Whole()


def hold(who: str, level: str = "see", account: str = "box", **more: Any) -> Holding:
    return Holding(account, who, False, level, None, {"who": who, "account": account}, **more)


@pytest.fixture
def told() -> Told:
    return Told()


@pytest.fixture
def reader(service: Service, organisation: Viewer, told: Told) -> Callable[[], Outcome]:
    """Reads the told system; its id is in ``told.ident``."""
    told_service = replace(service, adapters={"told": told})
    ident = connections.connect(told_service, organisation, "told", "Told", "told", {}, "")
    told.ident, told.service = ident, told_service  # type: ignore[attr-defined]

    def read() -> Outcome:
        outcome = readings.read(told_service, organisation.organisation, ident)
        assert outcome is not None
        return outcome

    return read


def adopt_all(service: Service, viewer: Viewer) -> None:
    with service.unit(viewer) as unit:
        changes.carry_out(unit, Change(ChangeKind.ADOPT, "All of it is right.", filter='drift eq "unrecorded"'))


def drift(service: Service, viewer: Viewer) -> set[tuple[str, str]]:
    """Who drifted how."""
    with service.unit(viewer) as unit:
        rows = unit.db.execute(
            select(Person.name, Grant.recorded, Grant.missing_since, Grant.differs["level"].astext)
            .join(Grant, Grant.person_id == Person.id)
            .where(Grant.state != "ended")
        )
        return {
            (name, "unrecorded" if not recorded else "missing" if missing else shown)
            for name, recorded, missing, shown in rows
            if not recorded or missing or shown
        }


def open_rules(service: Service, viewer: Viewer) -> set[str]:
    with service.unit(viewer) as unit:
        return set(unit.db.scalars(select(Flag.rule).where(Flag.state == "open")))


def test_a_reading_can_follow_a_great_many_entries_on_the_same_connection(
    service: Service, organisation: Viewer, told: Told, reader: Callable[[], Outcome]
) -> None:
    """Both use temporary tables, and how much memory those get can't be changed after the first."""
    service.engine.dispose()
    # Whichever of its connections the reading then takes.
    with service.unit(organisation) as one, service.unit(organisation) as other:
        for unit in (one, other):
            unit.record_many("grant", [("grant.changed", unit.viewer.organisation, f"{n}", None) for n in range(200)])
    told.found = [SharedAccount("box", "Box"), Login("ann", "Ann", False), hold("ann")]
    assert reader().newly_unrecorded == 1


@pytest.mark.parametrize("many", [comparison.MANY, -1], ids=["a few", "a great many"])
def test_what_differs_is_seen_flagged_and_gone_once_it_does_not(
    many: int,
    service: Service,
    organisation: Viewer,
    told: Told,
    reader: Callable[[], Outcome],
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """More there than recorded, less, elsewhere; reading the same again writes nothing."""
    monkeypatch.setattr(comparison, "MANY", many)
    part = FoundPart("box", "box/in", "In", "folder")
    told.found = [
        SharedAccount("box", "Box"),
        part,
        *(Login(n, n.title(), False) for n in ("ann", "bob", "cy", "di")),
        hold("ann"),
        hold("bob", "do"),
        hold("cy", ""),
        hold("di"),
    ]
    told.found[-2] = Holding("box", "cy", False, "", None, {"who": "cy"}, (("box/in", "see"),))
    assert (reader().newly_unrecorded, reader().newly_unrecorded) == (4, 0)
    adopt_all(service, organisation)
    assert drift(service, organisation) == set()
    told.found = [
        *told.found[:6],
        hold("ann", "do"),
        hold("bob"),
        Holding("box", "cy", False, "", None, {"who": "cy"}, (("box/in", "do"),)),
    ]
    outcome = reader()
    assert (outcome.missing, outcome.differing, outcome.unrecorded) == (1, 3, 0)
    assert drift(service, organisation) == {
        ("Ann", "Doer"),
        ("Bob", "Seer"),
        ("Cy", "Doer on box/in"),
        ("Di", "missing"),
    }
    assert {"changed", "missing"} <= open_rules(service, organisation)
    with service.unit(organisation) as unit:
        before = unit.db.scalar(select(func.count()).select_from(JournalEntry))
    assert reader().missing == 0
    with service.unit(organisation) as unit:
        # Only that it was read.
        assert unit.db.scalar(select(func.count()).select_from(JournalEntry)) == (before or 0) + 1
    told.found = [
        *told.found[:6],
        hold("ann"),
        hold("bob", "do"),
        hold("di"),
        Holding("box", "cy", False, "", None, {"who": "cy"}, (("box/in", "see"),)),
    ]
    reader()
    assert drift(service, organisation) == set()
    assert not {"changed", "missing"} & open_rules(service, organisation)


def entries(service: Service, viewer: Viewer) -> int:
    with service.unit(viewer) as unit:
        return unit.db.scalar(select(func.count()).select_from(JournalEntry)) or 0


def test_where_the_first_rule_decides_another_order_opens(
    service: Service, organisation: Viewer, told: Told, reader: Callable[[], Outcome]
) -> None:
    """The same rules in another order are another answer, and nothing else changes."""
    told.can = Abilities(frozenset(), (), rules=RuleManner(Combining.FIRST_MATCH, {"see": Right.SEE}))
    rules = [
        FoundRule("box", {"rule": "no", "refuse": ["anyone"], "to": ["see"]}),
        FoundRule("box", {"rule": "yes", "admit": ["anyone"], "to": ["see"]}),
    ]
    for listed, is_open in ((rules, False), (rules[::-1], True), (rules, False)):
        told.found = [SharedAccount("box", "Box"), *listed]
        reader()
        with service.unit(organisation) as unit:
            opened = unit.db.scalar(select(func.count(Exposure.id)).where(Exposure.gone_at.is_(None)))
            assert bool(opened) is is_open


def test_two_logins_of_one_person_are_one_grant_that_does_not_flicker(
    service: Service, organisation: Viewer, told: Told, reader: Callable[[], Outcome]
) -> None:
    """The first that the system tells of is what the grant shows; the other one takes over when it is gone."""
    with service.unit(organisation) as unit:
        person = Person(
            organisation_id=organisation.organisation, name="Ann Lee", address="ann@example.org", inside=True
        )
        unit.db.add(person)
    logins = [Login(name, name.title(), False, {"address": "ann@example.org"}) for name in ("ann", "ann2")]
    told.found = [SharedAccount("box", "Box"), *logins, hold("ann"), hold("ann2", "do")]
    assert reader().unrecorded == 1
    before = entries(service, organisation)
    assert [reader().unrecorded for _ in range(2)] == [1, 1]
    assert entries(service, organisation) == before + 2
    told.found = told.found[:-2] + told.found[-1:]
    assert reader().unrecorded == 1
    with service.unit(organisation) as unit:
        level = select(Level.key).join(Term, Term.level_id == Level.id).join(Grant, Grant.id == Term.grant_id)
        assert list(unit.db.scalars(level.where(Grant.person_id == person.id, Grant.state == "active"))) == ["do"]


def test_a_login_that_is_somebody_elses_is_looked_up_again(
    service: Service, organisation: Viewer, told: Told, reader: Callable[[], Outcome]
) -> None:
    """Though the system shows just what it showed before."""
    told.found = [SharedAccount("box", "Box"), Login("ann", "Ann", False), Login("bob", "Bob", False), hold("ann")]
    reader()
    adopt_all(service, organisation)
    assert (reader().missing, reader().newly_unrecorded) == (0, 0)
    with service.unit(organisation) as unit:
        handles = {handle.name: handle for handle in unit.db.scalars(select(Handle))}
        handles["ann"].person_id = handles["bob"].person_id
    outcome = reader()
    assert (outcome.missing, outcome.newly_unrecorded) == (1, 1)
    assert drift(service, organisation) == {("Ann", "missing"), ("Bob", "unrecorded")}


def test_a_login_that_was_made_anew_is_somebody_else_until_a_person_says(
    service: Service, organisation: Viewer, told: Told, reader: Callable[[], Outcome]
) -> None:
    """Though it has the name, the address and all the rights of the one before; and again at the next reading."""
    with service.unit(organisation) as unit:
        ann = person(unit, "Ann Lee", "ann@example.org")
    box = SharedAccount("box", "Box")

    def login(identity: str) -> Login:
        return Login("ann", "Ann Lee", False, {"address": "ann@example.org", "identity": identity})

    told.found = [box, login("16401"), hold("ann")]
    reader()
    adopt_all(service, organisation)
    told.found = [box, login("16777"), hold("ann")]
    for _ in range(2):
        reader()
        with service.unit(organisation) as unit:
            now = unit.db.scalars(select(Handle).where(Handle.name == "ann")).one()
            before = unit.db.scalars(select(Handle).where(Handle.name.like("ann (until %"))).one()
            assert before.person_id == ann
            assert now.person_id != ann
            assert now.candidates == [{"person": str(ann), "by": "uid"}]
    assert ("Ann Lee", "missing") in drift(service, organisation)


def test_odd_names_come_through_as_they_are(
    service: Service, organisation: Viewer, told: Told, reader: Callable[[], Outcome]
) -> None:
    """Tabs, ends of lines, backslashes, quotes; what a database can not keep is left out. Again, nothing differs."""
    odd = "a\tb\\n\nc'\"\\. ü漢"
    told.found = [SharedAccount(odd, odd), Login(odd, "Odd\x01 \x00one", False), hold(odd, account=odd)]
    assert (reader().newly_unrecorded, reader().newly_unrecorded) == (1, 0)
    with service.unit(organisation) as unit:
        assert list(unit.db.scalars(select(Handle.name))) == [odd]
        assert list(unit.db.scalars(select(Grant.handle["account"].astext))) == [odd]
        assert set(unit.db.scalars(select(Person.name).where(~Person.recognised))) == {"Odd one"}


def test_what_differs_is_recorded_or_accepted_until_a_day(
    service: Service, organisation: Viewer, told: Told, reader: Callable[[], Outcome], clock: Clock
) -> None:
    """What the system has becomes what is recorded, with the time that was; an acceptance runs out."""
    told.found = [SharedAccount("box", "Box"), Login("ann", "Ann", False), hold("ann")]
    reader()
    adopt_all(service, organisation)
    until = clock.now + timedelta(days=40)
    with service.unit(organisation) as unit:
        grant = unit.db.scalars(select(Grant)).one()
        unit.db.scalars(select(Term)).one().until = until
        grant.version += 1
        ident = grant.id
    told.found[-1] = hold("ann", "do")
    reader()
    with pytest.raises(BadInput, match="No day"), service.unit(organisation) as unit:
        changes.carry_out(unit, Change(ChangeKind.ACCEPT, "For the move.", (ident,)))
    with service.unit(organisation) as unit:
        accepted = Change(ChangeKind.ACCEPT, "For the move.", (ident,), until=clock.now + timedelta(days=3))
        changes.carry_out(unit, accepted)
    assert "changed" not in open_rules(service, organisation)
    with pytest.raises(Conflict, match="Nothing is open"), service.unit(organisation) as unit:
        changes.carry_out(unit, accepted)
    clock.forward(days=4)
    evaluate_flags.evaluate_all(service, organisation.organisation)
    assert "changed" in open_rules(service, organisation)
    with service.unit(organisation) as unit:
        changes.carry_out(unit, Change(ChangeKind.ADOPT, "She does this now.", (ident,)))
    with service.unit(organisation) as unit:
        term, level = unit.db.execute(select(Term, Level.key).join(Level, Level.id == Term.level_id)).one()
        assert (level, term.until, unit.db.get_one(Grant, ident).differs) == ("do", until, None)
    assert reader().differing == 0
    assert "changed" not in open_rules(service, organisation)


@pytest.mark.parametrize("kind", ["directory", "mailboxes"])
def test_what_differs_is_brought_back_in_the_system(
    kind: str, make: Callable[[str], World], service: Service, organisation: Viewer
) -> None:
    """To just what is recorded: less is cut down, more is given; the system's own client is asked."""
    world = make(kind)
    system = connect(service, organisation, world)
    before = world.asked(world.goes)
    adopt_all(service, organisation)
    with service.unit(organisation) as unit:
        grant = grant_of(unit, world, world.goes)
        ident, handle = grant.id, dict(grant.handle)
    adapter = world.adapter()
    level = {"directory": "member", "mailboxes": "lrs"}[kind]
    for move in adapter.plan(StepKind.REDUCE, {**handle, "to": level}):
        adapter.apply(move.kind, move.detail)
    assert world.asked(world.goes) not in ("", before)
    outcome = readings.read(service, organisation.organisation, system)
    assert outcome is not None
    assert outcome.differing == 1
    with service.unit(organisation) as unit:
        changes.carry_out(unit, Change(ChangeKind.RESTORE, "It was cut by mistake.", (ident,)))
    assert provisioning.settle(service, organisation.organisation, ident) is None
    with service.unit(organisation) as unit:
        assert lagging(unit) == []
    assert world.asked(world.goes) == before
    again = readings.read(service, organisation.organisation, system)
    assert again is not None
    assert again.differing == 0


def test_only_what_changed_is_asked_for_again_and_everything_once_a_day(
    service: Service, organisation: Viewer, told: Told, reader: Callable[[], Outcome], clock: Clock
) -> None:
    """What an account is said not to have changed is neither missing nor new; somebody can ask for everything."""
    told.found = [
        SharedAccount("box", "Box", stamp="1"),
        SharedAccount("bin", "Bin", stamp="1"),
        Login("ann", "Ann", False),
        hold("ann"),
        hold("ann", account="bin"),
    ]
    reader()
    adopt_all(service, organisation)
    # What the register has changed since is seen once more, whatever its stamp says.
    reader()
    assert told.asked[-1] == {}
    told.found = [
        SharedAccount("box", "Box", stamp="1"),
        SharedAccount("bin", "Bin", stamp="2"),
        Unchanged("box"),
        Login("ann", "Ann", False),
    ]
    assert reader().missing == 1
    assert told.asked[-1] == {"box": "1", "bin": "1"}
    with service.unit(organisation) as unit:
        assert "1 account unchanged" in unit.db.scalars(select(System.answer)).one()
        readings.ask_to_read(replace(unit, service=told.service), told.ident, fully=True)  # type: ignore[attr-defined]
    told.found = [told.found[0], told.found[1], told.found[3], hold("ann"), hold("ann", account="bin")]
    reader()
    assert told.asked[-1] == {}
    assert drift(service, organisation) == set()
    clock.forward(days=1, seconds=1)
    reader()
    assert told.asked[-1] == {}


def test_a_system_is_read_by_its_schedule_and_by_one_reader_at_a_time(
    service: Service, organisation: Viewer, told: Told, reader: Callable[[], Outcome], clock: Clock
) -> None:
    """How far it has come shows while it goes on; a second reader goes away."""
    seen: list[Any] = []
    told.found = [SharedAccount("box", "Box"), *(Login(f"n{i}", f"N{i}", False) for i in range(10))]

    def look() -> None:
        with service.unit(organisation) as unit:
            seen.append(unit.db.scalars(select(System.reading_since)).one())
        other = threading.Thread(
            target=lambda: seen.append(readings.read(told.service, organisation.organisation, told.ident))  # type: ignore[attr-defined]
        )
        other.start()
        other.join()

    told.meanwhile = look
    reader()
    assert seen[0] is not None
    assert seen[1] is None
    assert len(told.asked) == 1
    told_service: Service = told.service  # type: ignore[attr-defined]
    woken: list[str] = []
    ident = str(told.ident)  # type: ignore[attr-defined]

    def wake(task: str, arguments: dict[str, str], at: object) -> None:
        if arguments.get("system") == ident:
            woken.append(task)

    waking = replace(told_service, wake=wake)
    with told_service.unit(organisation) as unit:
        readings.set_schedule(unit, told.ident, 30)  # type: ignore[attr-defined]
    tasks.look_round(waking)
    assert "read_system" not in woken
    clock.forward(minutes=31)
    tasks.look_round(waking)
    tasks.look_round(waking)
    assert woken.count("read_system") == 1
    with pytest.raises(BadInput, match="minutes"), told_service.unit(organisation) as unit:
        readings.set_schedule(unit, told.ident, 0)  # type: ignore[attr-defined]


def person(unit: Unit, name: str, address: str | None = None, **marks: str) -> UUID:
    unit.db.add(row := Person(organisation_id=unit.viewer.organisation, name=name, address=address, inside=True))
    unit.db.flush()
    for kind, value in marks.items():
        unit.db.add(Mark(organisation_id=unit.viewer.organisation, person_id=row.id, kind=kind, value=value))
    return row.id


def test_a_reading_that_is_asked_for_during_another_comes_after_it(
    service: Service, organisation: Viewer, told: Told, reader: Callable[[], Outcome], clock: Clock
) -> None:
    """What the other one has read by then may be what was before; asked for beforehand it is just one."""
    told.found = [SharedAccount("box", "Box"), Login("ann", "Ann", False), hold("ann")]

    def ask() -> None:
        clock.forward(seconds=1)
        with told.service.unit(organisation) as unit:  # type: ignore[attr-defined]
            readings.ask_to_read(replace(unit, service=told.service), told.ident)  # type: ignore[attr-defined]

    def due() -> list[UUID]:
        with told.service.unit(organisation) as unit:  # type: ignore[attr-defined]
            return readings.due(unit)

    ask()
    reader()
    assert due() == []
    told.meanwhile = ask
    reader()
    assert due() == [told.ident]  # type: ignore[attr-defined]
    told.meanwhile = lambda: None
    reader()
    assert due() == []


def test_people_are_told_by_rules_and_doubts_are_put_to_somebody(
    service: Service, organisation: Viewer, told: Told, reader: Callable[[], Outcome]
) -> None:
    """A sure mark is enough; a uid or a name is asked about; the answer moves what was found, once."""
    with service.unit(organisation) as unit:
        ann, bob = person(unit, "Ann", employee="17"), person(unit, "Bob", uid="1001")
        person(unit, "Cy", "cy@example.org")
        person(unit, "Cyrus", "CYRUS@example.org")
    told.found = [
        SharedAccount("box", "Box"),
        Login("a", "Somebody", False, {"employee": "17"}),
        Login("b", "Somebody too", False, {"uid": "1001"}),
        Login("c", "C", False, {"address": "cy@example.org cyrus@example.org"}),
        hold("a"),
        hold("b"),
        hold("c"),
    ]
    reader()
    with service.unit(organisation) as unit:
        assert unit.db.scalars(select(Handle.person_id).where(Handle.name == "a")).one() == ann
        doubts = {d.login: [(c.name, c.by) for c in d.candidates] for d in login_matching.doubts(unit)}
        assert doubts == {"b": [("Bob", "uid")], "c": [("Cy", "address"), ("Cyrus", "address")]}
        asked = {d.login: d.id for d in login_matching.doubts(unit)}
    with service.unit(organisation) as unit:
        login_matching.decide(unit, asked["b"], bob)
        login_matching.decide(unit, asked["c"], None)
    with pytest.raises(Conflict, match="said already"), service.unit(organisation) as unit:
        login_matching.decide(unit, asked["b"], ann)
    outcome = reader()
    assert (outcome.newly_unrecorded, outcome.missing, outcome.unrecorded) == (0, 0, 3)
    with service.unit(organisation) as unit:
        assert login_matching.doubts(unit) == []
        assert unit.db.scalars(select(Grant.person_id).where(Grant.person_id == bob)).all() == [bob]
        with pytest.raises(BadInput, match="named twice"):
            login_matching.set_rules(unit, told.ident, [("uid", True), ("uid", False)])  # type: ignore[attr-defined]


def test_whoever_was_met_before_is_told_once_the_register_knows_their_marks(
    service: Service, organisation: Viewer, told: Told, reader: Callable[[], Outcome]
) -> None:
    """By a file of marks; where they hold the account already, the two become one."""
    import io

    told.found = [SharedAccount("box", "Box"), Login("a", "A", False, {"fingerprint": "SHA256:x"}), hold("a")]
    reader()
    with service.unit(organisation) as unit:
        ann = person(unit, "Ann")
        unit.db.get_one(Person, ann).key = "ann"
    for kind, written in (("marks", "person,kind,value\nann,fingerprint,SHA256:x\n"),) * 2:
        with service.unit(organisation) as unit:
            imports.bring(unit, kind, "csv", io.BytesIO(written.encode()), keep_good=False, try_only=False)
    reader()
    with service.unit(organisation) as unit:
        assert unit.db.scalars(select(Grant.person_id).where(Grant.state != "ended")).all() == [ann]
        assert unit.db.scalar(select(func.count(Mark.id))) == 1
    assert reader().newly_unrecorded == 0


def test_a_reading_that_breaks_off_changes_nothing(
    service: Service, organisation: Viewer, told: Told, reader: Callable[[], Outcome]
) -> None:
    """However much of it came."""
    told.found = [SharedAccount("box", "Box"), Login("ann", "Ann", False), hold("ann")]
    reader()
    adopt_all(service, organisation)

    def fail() -> None:
        raise SystemDown("It went away.")

    told.found, told.meanwhile = told.found[:1], fail
    assert readings.read(told.service, organisation.organisation, told.ident) is None  # type: ignore[attr-defined]
    assert drift(service, organisation) == set()
    with service.unit(organisation) as unit:
        row = unit.db.scalars(select(System)).one()
        assert (row.reading_since, row.answer) == (None, "It went away.")
