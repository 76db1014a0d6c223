"""What is open to outsiders in a real service: read, tried from outside, judged, guarded, drafted, closed."""

from __future__ import annotations

import json
import random
from collections.abc import Iterator, Sequence
from dataclasses import replace
from datetime import UTC, date, datetime
from typing import Any
from uuid import UUID

import httpx
import pytest
from sqlalchemy import select

from openlatch import schemas
from openlatch.core.exposure.form import FORM
from openlatch.core.vocabulary import Verdict
from openlatch.errors import BadInput, Conflict, NotFound, ProofNeeded
from openlatch.processes import free_port
from openlatch.service import connections
from openlatch.service.exposure import (
    boundary,
    boundary_changes,
    draft_changes,
    drafts,
    evaluate,
    expected,
    guard_changes,
    guards,
    history,
    judge,
    narrow,
    pages,
    touched,
)
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.lists import register
from openlatch.service.reviews import close_round, decisions, open_round
from openlatch.service.reviews.plans import Review
from openlatch.service.revocations import close_exposures, steps
from openlatch.service.systems import apply_rules, readings, tell_guards
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.lists.engine import ListQuery
from openlatch.store.tables import (
    AccessRule,
    Account,
    Exposure,
    Flag,
    Handle,
    Item,
    JournalEntry,
    Person,
    Resource,
    RevocationTarget,
    System,
)
from openlatch.test_systems.cloud import Cloud, CloudServer
from tests.conftest import ADAPTER_PASSWORD, Clock
from tests.service.ending import carry_on

SPACE = "press"
OPEN = {"rule": "open", "admit": ["anyone"], "to": ["list", "fetch"], "on": ["/press/**"]}
DROP = {
    "rule": "drop",
    "admit": ["anyone"],
    "to": ["upload"],
    "on": ["/press/drop"],
    "while": [{"from_network": ["203.0.113.0/24"]}],
}
SHUT = {"rule": "shut", "refuse": ["anyone"], "to": ["see"], "set_on": {"group": "inner"}}
PARTNER = {
    "rule": "partner",
    "admit": [{"organisation": "survey.example.net"}],
    "to": ["fetch"],
    "set_on": {"group": "inner"},
    "while": [{"second_factor": True}],
}


class Space:
    """A space of the cloud service, asked as anybody from outside would."""

    def __init__(self, cloud: Cloud, address: str) -> None:
        self.cloud, self.address = cloud, address

    def set_rules(self, *rules: dict[str, Any], guards: Sequence[dict[str, Any]] = ()) -> None:
        self.cloud.state.rules[SPACE], self.cloud.state.guards = list(rules), list(guards)
        self.cloud.state.versions[SPACE] = self.cloud.state.versions.get(SPACE, 1) + 1

    def opens(self, path: str, method: str = "GET", **headers: str) -> bool:
        told = {name.replace("_", "-"): value for name, value in headers.items()}
        return httpx.request(method, f"{self.address}/open/{SPACE}{path}", headers=told).is_success


@pytest.fixture
def space(clock: Clock) -> Iterator[Space]:
    cloud = Cloud(ADAPTER_PASSWORD)
    cloud.load(
        {
            "domain": "example.org",
            "spaces": {SPACE: {"name": "Press"}},
            "items": {
                SPACE: {
                    "/press/huts.zip": {"name": "Pictures"},
                    "/press/drop": {"name": "Drop box"},
                    "/press/inner/plan.pdf": {"name": "Plan", "groups": ["inner"]},
                    "/own/notes.txt": {"name": "Notes"},
                }
            },
        }
    )
    server = CloudServer(cloud, free_port())
    server.start()
    yield Space(cloud, server.address)
    server.stop()


class Reader:
    """Reads the space, and says what is open by then."""

    def __init__(self, service: Service, viewer: Viewer, space: Space, clock: Clock) -> None:
        self.service, self.viewer, self.clock = service, viewer, clock
        self.system = connections.connect(
            service, viewer, "cloud", "Cloud", "cloud", {"address": space.address}, ADAPTER_PASSWORD
        )

    def read(self) -> dict[tuple[str, str], str]:
        self.clock.forward(minutes=1)
        assert readings.read(self.service, self.viewer.organisation, self.system) is not None
        return self.open()

    def open(self) -> dict[tuple[str, str], str]:
        with self.service.unit(self.viewer) as unit:
            page = register.page(unit, "exposures", ListQuery(limit=100))
            return {((row["resource"] or {}).get("name", ""), row["right"]): row["audience"] for row in page.rows}

    @property
    def account(self) -> UUID:
        with self.service.unit(self.viewer) as unit:
            return unit.db.scalars(select(Account.id).where(Account.handle == SPACE)).one()

    def ident(self, name: str, right: str) -> UUID:
        with self.service.unit(self.viewer) as unit:
            wanted = (
                select(Exposure.id)
                .join(Resource)
                .where(Resource.name == name, Exposure.right == right, Exposure.gone_at.is_(None))
            )
            return unit.db.scalars(wanted).one()


@pytest.fixture
def reader(service: Service, organisation: Viewer, space: Space, clock: Clock) -> Reader:
    return Reader(service, organisation, space, clock)


def actions(service: Service, viewer: Viewer, prefix: str) -> list[str]:
    with service.unit(viewer) as unit:
        found = (
            select(JournalEntry.action).where(JournalEntry.action.startswith(prefix)).order_by(JournalEntry.position)
        )
        return list(unit.db.scalars(found))


def test_what_a_reading_says_is_open_opens_from_outside_and_nothing_else_does(space: Space, reader: Reader) -> None:
    """Every item and right is tried without a sign-in, from inside and outside the network, and as a partner."""
    space.set_rules(OPEN, DROP, SHUT, PARTNER)
    assert reader.read() == {
        ("Pictures", "see"): "anyone",
        ("Drop box", "see"): "anyone",
        ("Drop box", "change"): "anyone",
    }
    space.set_rules(OPEN, DROP, PARTNER)
    shown = reader.read()
    tries = {
        ("anyone", "see"): {},
        ("anyone", "change"): {"X_From": "203.0.113.9"},
        ("named", "see"): {"X_Sign_In": "ida@survey.example.net", "X_Second_Factor": "yes"},
    }
    for path, item in space.cloud.state.items[SPACE].items():
        for right, method in (("see", "GET"), ("change", "PUT"), ("administer", "POST")):
            audience = shown.get((item["name"], right))
            by = tries.get((audience or "", right), {})
            assert space.opens(path, method, **by) == (audience is not None), (path, right)
            if audience == "named" or right == "change":
                assert not space.opens(path, method)


def test_the_same_reading_again_writes_nothing(
    space: Space, reader: Reader, service: Service, organisation: Viewer
) -> None:
    space.set_rules(OPEN)
    assert len(reader.read()) == 3
    assert len(reader.read()) == 3
    assert actions(service, organisation, "exposure.") == ["exposure.found"] * 3
    space.set_rules()
    assert reader.read() == {}
    assert actions(service, organisation, "exposure.")[3:] == ["exposure.gone"] * 3
    with service.unit(organisation) as unit:
        assert not unit.db.scalars(select(Resource.name).where(Resource.public)).all()


def test_what_was_open_on_a_past_day_is_known_as_it_was_known(
    space: Space, reader: Reader, service: Service, organisation: Viewer
) -> None:
    """By the machine's own time, since the database keeps the versions."""
    real = replace(service, clock=lambda: datetime.now(UTC))
    at: list[datetime] = []
    for rules in ((OPEN,), (OPEN, SHUT), ()):
        space.set_rules(*rules)
        assert readings.read(real, organisation.organisation, reader.system) is not None
        at.append(datetime.now(UTC))
    with real.unit(organisation) as unit:
        unit.db.scalars(select(Resource).where(Resource.name == "Pictures")).one().archived_at = unit.now
    with real.unit(organisation) as unit:

        def names(then: datetime, believed: datetime | None = None) -> set[str]:
            found = history.at_instant(unit, reader.account, then, believed).exposures
            return {exposure.resource.name for exposure in found}

        assert [names(then) for then in at] == [{"Pictures", "Drop box", "Plan"}, {"Pictures", "Drop box"}, set()]
        assert names(at[2], believed=at[0]) == {"Pictures", "Drop box", "Plan"}
        # Before the first reading nobody knew of any rule.
        assert names(datetime(2026, 1, 1, tzinfo=UTC)) == set()
        with pytest.raises(BadInput, match="to come"):
            names(datetime(2100, 1, 1, tzinfo=UTC))


def test_what_is_intended_comes_back_when_it_reaches_farther_matters_more_or_its_time_is_over(
    space: Space, reader: Reader, service: Service, organisation: Viewer, clock: Clock
) -> None:
    """Written otherwise it is still the same."""
    space.set_rules(DROP)
    reader.read()

    def intend(last_day: date | None = None) -> None:
        with service.unit(organisation) as unit:
            judge.judge(unit, [reader.ident("Drop box", "change")], "intended", "Guests hand in pictures.", last_day)

    def judgement() -> str:
        with service.unit(organisation) as unit:
            return unit.db.get_one(Exposure, reader.ident("Drop box", "change")).judgement

    def from_networks(*networks: str) -> None:
        space.set_rules({**DROP, "while": [{"from_network": list(networks)}]})
        reader.read()

    with service.unit(organisation) as unit, pytest.raises(BadInput, match="why"):
        judge.judge(unit, [reader.ident("Drop box", "change")], "intended", " ")
    intend()
    from_networks("203.0.113.0/25", "203.0.113.128/25")
    assert judgement() == "intended"
    from_networks("203.0.113.0/25")
    assert judgement() == "intended"
    from_networks("203.0.112.0/23")
    assert judgement() == "unjudged"
    intend(date(2026, 3, 20))
    clock.forward(days=20)
    evaluate.every_account(service, organisation.organisation)
    assert judgement() == "unjudged"
    intend()
    with service.unit(organisation) as unit:
        account = unit.db.get_one(Account, reader.account)
        account.sensitivity += 1
        unit.db.flush()
        evaluate.accounts(unit, [account.id])
    assert judgement() == "unjudged"
    returned = actions(service, organisation, "exposure.judgement_returned")
    assert len(returned) == 3


def test_closing_takes_the_rule_away_in_the_system_and_is_confirmed_by_it(
    space: Space, reader: Reader, service: Service, organisation: Viewer, clock: Clock
) -> None:
    """The preview says what else closes by the same rule; what comes back is contradicted."""
    space.set_rules(OPEN, DROP)
    reader.read()
    wanted = [reader.ident("Pictures", "see")]
    with service.unit(organisation) as unit:
        shown = close_exposures.preview(unit, wanted)
        gone = {line.resource.name for line in shown.exposures.lines if line.change == "gone"}
        assert gone == {"Pictures", "Drop box", "Plan"}
        with pytest.raises(Conflict, match="changed since"):
            close_exposures.close(unit, wanted, "The project is over.", "something else")
    with service.unit(organisation) as unit:
        revocation = close_exposures.close(unit, wanted, "The project is over.", shown.fingerprint)
    assert carry_on(service, organisation, clock, revocation) == "confirmed"
    assert not space.opens("/press/huts.zip")
    assert reader.open() == {("Drop box", "change"): "anyone"}
    with service.unit(organisation) as unit:
        proofs = unit.db.execute(select(Exposure.right, Exposure.proof).where(Exposure.gone_at.is_not(None))).all()
        assert {tuple(row) for row in proofs} == {("see", "confirmed")}
        assert [end.proof for end in steps.page(unit, revocation).ends] == ["confirmed"]
    space.set_rules(OPEN, DROP)
    reader.read()
    with service.unit(organisation) as unit:
        assert unit.db.scalars(select(RevocationTarget.proof)).one() == "contradicted"
        assert unit.db.get_one(Exposure, wanted[0]).proof == "contradicted"
        assert unit.db.get_one(Exposure, wanted[0]).judgement == "unjudged"
    assert "access_rule.contradicted" in actions(service, organisation, "access_rule.")


def test_a_rule_that_the_service_only_says_to_have_removed_is_not_closed(
    space: Space, reader: Reader, service: Service, organisation: Viewer, clock: Clock
) -> None:
    space.set_rules(OPEN)
    reader.read()
    space.cloud.manners.says_done = True
    with service.unit(organisation) as unit:
        revocation = close_exposures.close(unit, [reader.ident("Pictures", "see")], "The project is over.")
    assert carry_on(service, organisation, clock, revocation, turns=3) == "waiting"
    assert ("Pictures", "see") in reader.open()


def test_a_guard_shuts_nothing_and_what_is_open_against_it_is_told(
    space: Space, reader: Reader, service: Service, organisation: Viewer
) -> None:
    """No system knows of it: what the service serves to anybody stays in the list."""
    space.set_rules(OPEN, DROP, PARTNER)
    before = reader.read()
    wish = guard_changes.Wish(["change"], "Nobody outside changes anything.", account=reader.account)
    with service.unit(organisation) as unit:
        shown = guard_changes.preview(unit, wish)
        assert [(line.resource.name, line.right) for line in shown.lines] == [("Drop box", "change")]
        assert shown.forbidden == 1
        with pytest.raises(Conflict, match="by now"):
            guard_changes.add(unit, wish, "something else")
        made = guard_changes.add(unit, wish, shown.fingerprint)
        assert made.sentence == "No outsider may change Press."
    assert reader.open() == before
    assert space.opens("/press/drop", "PUT", X_From="203.0.113.9")
    with service.unit(organisation) as unit:
        told = register.page(unit, "exposures", ListQuery("forbidden eq true", limit=10)).rows
        assert [(row["resource"]["name"], row["right"]) for row in told] == [("Drop box", "change")]
        more = json.dumps({"form": "open-latch-rules-1", "rules": [{**OPEN, "to": ["upload"]}]})
        drafted = drafts.make(unit, reader.account, more)
        assert {line.forbidden for line in drafted.lines if line.change == "new"} == {True}
    assert "guard_broken" in raised(service, organisation, reader.account)
    stale = Viewer(
        organisation.organisation, "Ada", _person(service, organisation), administrator=True, credential=UUID(int=9)
    )
    with service.unit(stale) as unit, pytest.raises(ProofNeeded):
        guard_changes.remove(unit, made.id, "Over.")
    with service.unit(organisation) as unit:
        guard_changes.remove(unit, made.id, "Over.")
        assert register.page(unit, "exposures", ListQuery("forbidden eq true", limit=10)).rows == []
    assert "guard_broken" not in raised(service, organisation, reader.account)
    with service.unit(organisation) as unit:
        only = guard_changes.Wish(["see"], "Partners only.", [{"organisation": "survey.example.net"}], reader.account)
        assert {line.resource.name for line in guard_changes.preview(unit, only).lines} == {
            "Pictures",
            "Drop box",
            "Plan",
        }
        guard_changes.add(unit, only)
        assert guards.listed(unit)[0].sentence == "No outsider but survey.example.net may see Press."


def test_a_login_of_the_same_name_in_another_system_is_somebody_else(service: Service, organisation: Viewer) -> None:
    """Whether a rule lets an outsider in is not told by a namesake elsewhere."""
    owner = organisation.organisation
    with service.unit(organisation) as unit:
        for where, inside in (("Here", False), ("There", True)):
            system = System(organisation_id=owner, name=where)
            person = Person(organisation_id=owner, name=where, inside=inside, address=f"ida@{where}.example.org")
            unit.db.add_all([system, person])
            unit.db.flush()
            unit.db.add(Handle(organisation_id=owner, system_id=system.id, person_id=person.id, name="ida"))
            unit.db.flush()
        found = {
            name: boundary.known_holders(unit, ident, frozenset({"ida", "wim"}))
            for name, ident in unit.db.execute(select(System.name, System.id).where(System.name.in_(["Here", "There"])))
        }
    assert {
        name: {who: (one.inside, one.organisation) for who, one in held.items()} for name, held in found.items()
    } == {
        "Here": {"ida": (False, "here.example.org")},
        "There": {"ida": (True, "there.example.org")},
    }


def _person(service: Service, viewer: Viewer) -> UUID:
    with service.unit(viewer) as unit:
        return unit.db.scalars(select(Person.id).limit(1)).one()


def test_a_draft_tells_what_it_would_open_before_anything_is_written(
    space: Space, reader: Reader, service: Service, organisation: Viewer
) -> None:
    space.set_rules(OPEN, SHUT)
    before = reader.read()
    wider = {**OPEN, "to": ["list", "fetch", "upload"]}
    planned = {"path": "/press/next.zip"}
    text = json.dumps({"form": "open-latch-rules-1", "rules": [wider], "resources": [planned]})
    with service.unit(organisation) as unit:
        made = drafts.make(unit, reader.account, text)
        assert made.state == "ready"
        told = {(line.resource.name, line.right): line.change for line in made.lines}
        assert told == {
            ("Pictures", "see"): "unchanged",
            ("Drop box", "see"): "unchanged",
            ("Plan", "see"): "new",
            ("Pictures", "change"): "new",
            ("Drop box", "change"): "new",
            ("Plan", "change"): "new",
            ("/press/next.zip", "see"): "new",
            ("/press/next.zip", "change"): "new",
        }
        assert all(line.rules == ["open"] for line in made.lines)
        problems = drafts.check(unit, reader.account, text.replace("upload", "shred"))
        assert [problem.line for problem in problems] == [1]
        assert "shred" in problems[0].message
        assert drafts.make(unit, reader.account, "{").state == "refused"
        same = json.dumps(drafts.current(unit, reader.account).document)
        assert drafts.make(unit, reader.account, same).counts == {"new": 0, "gone": 0, "changed": 0, "unchanged": 2}
        raised = drafts.make(unit, reader.account, same, {"fetch": "change"})
        # What keeps outsiders from seeing the plan says nothing of changing it.
        assert raised.counts["new"] == 3
        with pytest.raises(NotFound):
            drafts.make(unit, UUID(int=1), text)
    assert reader.read() == before


def rules_document(*rules: dict[str, Any], guards: Sequence[dict[str, Any]] = ()) -> str:
    return json.dumps({"form": "open-latch-rules-1", "rules": list(rules), "guards": list(guards)})


def set_draft(service: Service, viewer: Viewer, account: UUID, text: str) -> schemas.RuleDraftRow:
    """Draft rules, have them set, and let the worker do it; the draft as it is then."""
    with service.unit(viewer) as unit:
        made = drafts.make(unit, account, text)
    with service.unit(viewer) as unit:
        assert apply_rules.ask(unit, made.id, "The project is over.").state == "applying"
    apply_rules.carry_out(service, viewer.organisation, made.id)
    with service.unit(viewer) as unit:
        return drafts.one(unit, made.id)


def test_a_draft_is_applied_once_the_system_shows_its_rules(
    space: Space, reader: Reader, service: Service, organisation: Viewer
) -> None:
    """Not when it says that it took them; twice, at the same time, and by who may not."""
    space.set_rules(OPEN, DROP)
    reader.read()
    text = rules_document(SHUT, DROP)
    stale = Viewer(
        organisation.organisation, "Ada", _person(service, organisation), administrator=True, credential=UUID(int=9)
    )
    with service.unit(organisation) as unit:
        made = drafts.make(unit, reader.account, text)
        other = drafts.make(unit, reader.account, rules_document(OPEN))
        with pytest.raises(BadInput, match="why"):
            apply_rules.ask(unit, made.id, " ")
    with service.unit(stale) as unit, pytest.raises(ProofNeeded):
        apply_rules.ask(unit, made.id, "Over.")
    with service.unit(organisation) as unit:
        apply_rules.ask(unit, made.id, "Over.")
        with pytest.raises(Conflict, match="on its way"):
            apply_rules.ask(unit, made.id, "Over.")
    assert space.opens("/press/huts.zip")
    for _ in range(2):
        assert apply_rules.carry_out(service, organisation.organisation, made.id) is None
    assert not space.opens("/press/huts.zip")
    assert space.cloud.state.rules[SPACE] == [SHUT, DROP]
    with service.unit(organisation) as unit:
        shown = drafts.one(unit, made.id)
        assert (shown.state, shown.reason, shown.applied_by) == ("applied", "Over.", organisation.name)
        with pytest.raises(Conflict, match="other rules by now"):
            apply_rules.ask(unit, other.id, "As it was.")
        with pytest.raises(Conflict, match="applied"):
            apply_rules.ask(unit, made.id, "Once more.")
    assert ("Pictures", "see") not in reader.open()


def test_rules_that_changed_in_the_system_are_not_written_over(
    space: Space, reader: Reader, service: Service, organisation: Viewer
) -> None:
    """Somebody changed them there since they were read; and what is not the system's to set is not asked for."""
    space.set_rules(OPEN, DROP)
    reader.read()
    with service.unit(organisation) as unit:
        made = drafts.make(unit, reader.account, rules_document(DROP))
        apply_rules.ask(unit, made.id, "Over.")
        guarded = drafts.make(
            unit,
            reader.account,
            rules_document(
                DROP,
                guards=[
                    {"guard": "new", "refuse": ["anyone"], "to": ["change"]},
                ],
            ),
        )
        with pytest.raises(Conflict, match="Guards of a system"):
            apply_rules.ask(unit, guarded.id, "Over.")
        supposed = drafts.make(unit, reader.account, rules_document(DROP), {"fetch": "change"})
        with pytest.raises(Conflict, match="permissions"):
            apply_rules.ask(unit, supposed.id, "Over.")
    space.set_rules(OPEN, DROP, PARTNER)
    apply_rules.carry_out(service, organisation.organisation, made.id)
    assert space.cloud.state.rules[SPACE] == [OPEN, DROP, PARTNER]
    with service.unit(organisation) as unit:
        shown = drafts.one(unit, made.id)
        assert shown.state == "failed"
        assert "other rules by now" in shown.failure


def test_a_guard_is_asked_before_rules_are_set(
    space: Space, reader: Reader, service: Service, organisation: Viewer
) -> None:
    """Also one that was set after it was asked for; closing against a guard is let through."""
    space.set_rules(OPEN, DROP)
    reader.read()
    wider = rules_document({**OPEN, "to": ["list", "fetch", "upload"]}, DROP)
    wish = guard_changes.Wish(["change"], "Nobody outside changes anything.", account=reader.account)
    with service.unit(organisation) as unit:
        made = drafts.make(unit, reader.account, wider)
        apply_rules.ask(unit, made.id, "For the project.")
        guard_changes.add(unit, wish)
    apply_rules.carry_out(service, organisation.organisation, made.id)
    assert space.cloud.state.rules[SPACE] == [OPEN, DROP]
    with service.unit(organisation) as unit:
        assert "guard of the organisation forbids" in drafts.one(unit, made.id).failure
        again = drafts.make(unit, reader.account, wider)
        with pytest.raises(Conflict, match="forbids"):
            apply_rules.ask(unit, again.id, "For the project.")
    assert set_draft(service, organisation, reader.account, rules_document(DROP)).state == "applied"


def test_a_guard_on_everything_is_set_in_the_system_and_watched_there(
    space: Space, reader: Reader, service: Service, organisation: Viewer, clock: Clock
) -> None:
    """It counts as standing when a reading shows it; switched off there it is flagged, and not set again by itself."""
    space.set_rules(OPEN, DROP)
    own = {"guard": "theirs", "refuse": ["anyone"], "to": ["administer"]}
    space.cloud.state.guards = [own]
    reader.read()
    wish = guard_changes.Wish(["change"], "Nobody outside changes anything.")
    with service.unit(organisation) as unit:
        assert guard_changes.preview(unit, wish).systems == ["Cloud"]
        made = guard_changes.add(unit, wish)
        assert [each.state for each in made.systems] == ["waiting"]

    def told() -> None:
        tell_guards.carry_out(service, organisation.organisation, reader.system)

    def states() -> list[str]:
        with service.unit(organisation) as unit:
            return [each.state for row in guards.listed(unit) for each in row.systems]

    assert space.opens("/press/drop", "PUT", X_From="203.0.113.9")
    told()
    assert states() == ["set"]
    assert not space.opens("/press/drop", "PUT", X_From="203.0.113.9")
    assert ("Drop box", "change") not in reader.open()
    assert space.cloud.state.guards[0] == own
    space.set_rules(OPEN, DROP, guards=[own])
    reader.read()
    assert states() == ["off"]
    assert ("Drop box", "change") in reader.open()
    assert {"guard_off", "guard_broken"} <= raised(service, organisation, reader.account)
    told()
    assert states() == ["off"]
    assert space.cloud.state.guards == [own]
    with service.unit(organisation) as unit:
        guard_changes.set_again(unit, made.id)
    told()
    assert states() == ["set"]
    with service.unit(organisation) as unit, pytest.raises(Conflict, match="not switched off"):
        guard_changes.set_again(unit, made.id)
    assert "guard_off" not in raised(service, organisation, reader.account)
    with service.unit(organisation) as unit:
        guard_changes.remove(unit, made.id, "Over.")
    told()
    assert space.cloud.state.guards == [own]
    assert space.opens("/press/drop", "PUT", X_From="203.0.113.9")


def test_the_boundary_decides_who_is_outside_and_changing_it_is_previewed(
    space: Space, reader: Reader, service: Service, organisation: Viewer
) -> None:
    space.set_rules(DROP, PARTNER)
    both = {("Drop box", "change"): "anyone", ("Plan", "see"): "named"}
    assert reader.read() == both
    wish = boundary.Setting(organisations=("survey.example.net",), networks=("203.0.113.0/24",))
    with service.unit(organisation) as unit:
        shown = boundary_changes.preview(unit, wish)
        assert shown.counts == {"new": 0, "gone": 2, "changed": 0, "unchanged": 0}
    assert reader.open() == both
    with service.unit(organisation) as unit:
        boundary_changes.change(unit, wish)
        with pytest.raises(BadInput, match="network"):
            boundary_changes.preview(unit, boundary.Setting(networks=("203.0.113.1/24",)))
    assert reader.open() == {}


def raised(service: Service, viewer: Viewer, account: UUID) -> set[str]:
    with service.unit(viewer) as unit:
        return set(unit.db.scalars(select(Flag.rule).where(Flag.account_id == account, Flag.state == "open")))


def test_flags_tell_what_is_open_and_clear_once_it_is_judged(
    space: Space, reader: Reader, service: Service, organisation: Viewer, clock: Clock
) -> None:
    """What is intended is flagged again when nobody uses it, and when its time is over."""
    unclear = {**OPEN, "rule": "unclear", "on": ["/own/**"], "while": [{"not_understood": "a full moon"}]}
    space.set_rules(OPEN, DROP, unclear)
    reader.read()
    of_exposures = {
        "exposure_new",
        "exposure_grown",
        "anyone_changes",
        "sensitive_open",
        "exposure_unclear",
        "intended_unused",
        "intended_over",
    }
    account = reader.account
    # Found accounts are taken for sensitive until somebody says otherwise.
    assert raised(service, organisation, account) & of_exposures == {
        "exposure_new",
        "anyone_changes",
        "sensitive_open",
        "exposure_unclear",
    }
    with service.unit(organisation) as unit:
        every = list(unit.db.scalars(select(Exposure.id)))
        judge.judge(unit, every, "intended", "All of it is.", date(2026, 7, 31))
    assert raised(service, organisation, account) & of_exposures == {"exposure_unclear"}
    space.set_rules({**OPEN, "on": ["/**"]}, DROP)
    reader.read()
    assert "exposure_new" in raised(service, organisation, account)
    clock.forward(days=95)
    evaluate_flags.evaluate_all(service, organisation.organisation)
    assert "intended_unused" in raised(service, organisation, account)
    clock.forward(days=95)
    evaluate.every_account(service, organisation.organisation)
    assert "intended_over" in raised(service, organisation, account)


def test_what_is_expected_is_marked_by_a_filter(
    space: Space, reader: Reader, service: Service, organisation: Viewer
) -> None:
    space.set_rules(OPEN, DROP)
    reader.read()
    with service.unit(organisation) as unit:
        rule = expected.add(unit, "Press page", 'account.name eq "Press" and right eq "see"', "It is for the press.")
        marked = register.page(unit, "exposures", ListQuery('expected_by.name eq "Press page"', limit=10)).rows
        assert {row["right"] for row in marked} == {"see"}
        assert len(marked) == 3
        with pytest.raises(BadInput):
            expected.add(unit, "All", "", "Whatever.")
    space.set_rules(OPEN, {**OPEN, "rule": "more", "on": ["/own/**"]})
    reader.read()
    with service.unit(organisation) as unit:
        new = pages.page(unit, reader.ident("Notes", "see"))
        assert new.expected_by.name == "Press page"
        expected.remove(unit, rule.id)
        assert pages.page(unit, reader.ident("Notes", "see")).expected_by in (
            None,
            schemas.PossibleExposure(id=None, name=None),
        )


def test_the_smallest_rule_for_the_use_that_was_seen(
    space: Space, reader: Reader, service: Service, organisation: Viewer
) -> None:
    space.set_rules(OPEN)
    space.cloud.state.outside = [
        {"space": SPACE, "path": "/press/huts.zip", "right": "see", "day": "2026-03-08", "who": "", "address": a}
        for a in ("198.51.100.7", "198.51.100.200")
    ]
    reader.read()
    with service.unit(organisation) as unit:
        page = pages.page(unit, reader.ident("Pictures", "see"))
        assert str(page.last_used_on) == "2026-03-08"
        assert page.narrower is not None
        assert page.narrower["while"] == [{"from_network": ["198.51.100.0/24"]}]
        assert pages.page(unit, reader.ident("Plan", "see")).narrower is None
        with pytest.raises(Conflict, match="narrower"):
            narrow.exposure(unit, reader.ident("Plan", "see"))
        made = narrow.exposure(unit, reader.ident("Pictures", "see"))
        assert made.counts == {"new": 0, "gone": 0, "changed": 1, "unchanged": 2}
    with service.unit(organisation) as unit:
        apply_rules.ask(unit, made.id, "Only the printers use it.")
    apply_rules.carry_out(service, organisation.organisation, made.id)
    assert space.opens("/press/huts.zip", X_From="198.51.100.7")
    assert not space.opens("/press/huts.zip", X_From="203.0.113.9")
    assert space.opens("/press/inner/plan.pdf", X_From="203.0.113.9")
    assert reader.open() == {("Pictures", "see"): "anyone", ("Drop box", "see"): "anyone", ("Plan", "see"): "anyone"}
    with service.unit(organisation) as unit:
        # It narrows once: with the same use there is nothing more to refuse.
        assert "198.51.100.0/24" in register.row(unit, "exposures", reader.ident("Pictures", "see"))["sentence"]


def test_a_review_narrows_to_the_use_that_was_seen(
    space: Space, reader: Reader, service: Service, organisation: Viewer
) -> None:
    """All of an account at once; what was not seen in use can't be narrowed; done is what the system shows."""
    everything = {**OPEN, "to": ["list", "fetch", "upload"]}
    space.set_rules(everything)
    space.cloud.state.outside = [
        {"space": SPACE, "path": path, "right": right, "day": "2026-03-08", "who": "", "address": address}
        for path, right, address in (
            ("/press/huts.zip", "see", "198.51.100.7"),
            ("/press/drop", "see", "203.0.113.9"),
            ("/press/drop", "change", "198.51.100.9"),
        )
    ]
    reader.read()
    narrowed = decisions.Decision(Verdict.TRIM, "Only as it is used.", trim_to_use=True)
    with service.unit(organisation) as unit:
        ident = open_round.open_round(unit, Review("Open", "", covers=("exposure",), acts="at_close"))
        items = {item.level: item.id for item in unit.db.scalars(select(Item).where(Item.round_id == ident))}
        said = decisions.preview(unit, ident, items["Pictures"], narrowed).sentence
        assert "Now: Anyone can see “Pictures”. Then: Anyone, from 198.51.100.0/24, can see “Pictures”." in said
        assert "Closed: Anyone can change “Pictures”." in said
        for wrong in (
            replace(narrowed, trim_until=unit.now),
            replace(narrowed, trim_to_use=False),
            replace(narrowed, verdict=Verdict.KEEP),
        ):
            with pytest.raises(BadInput):
                decisions.preview(unit, ident, items["Pictures"], wrong)
    with pytest.raises(Conflict, match="No use of “Plan” by outsiders was seen"), service.unit(organisation) as unit:
        decisions.decide(unit, ident, items["Plan"], narrowed)
    for name in ("Pictures", "Drop box"):
        with service.unit(organisation) as unit:
            decisions.decide(unit, ident, items[name], narrowed)
    with service.unit(organisation) as unit:
        close_round.close(unit, ident, dict.fromkeys(("observe", "operate", "spend", "steward"), "keep"))
    assert not close_round.carry_on(service, organisation, ident)
    with service.unit(organisation) as unit:
        (draft,) = {unit.db.get_one(Item, items[name]).draft_id for name in ("Pictures", "Drop box")}
        with pytest.raises(Conflict, match="being set"):
            close_round.retry(unit, ident, items["Pictures"])
    apply_rules.carry_out(service, organisation.organisation, draft)
    assert close_round.carry_on(service, organisation, ident)
    assert space.opens("/press/huts.zip", X_From="198.51.100.7")
    assert not space.opens("/press/huts.zip", X_From="203.0.113.9")
    assert space.opens("/press/drop", X_From="203.0.113.9")
    assert space.opens("/press/drop", X_From="198.51.100.7")
    assert space.opens("/press/drop", "PUT", X_From="198.51.100.9")
    assert not space.opens("/press/drop", "PUT", X_From="203.0.113.9")
    assert not space.opens("/press/huts.zip", "PUT", X_From="198.51.100.7")
    with service.unit(organisation) as unit:
        item = unit.db.get_one(Item, items["Drop box"])
        assert (item.proof, item.outcome.partition(":")[0]) == ("confirmed", "Confirmed")


def any_rule(chance: random.Random, folders: Sequence[str], number: int) -> dict[str, Any]:
    place = chance.choice(
        [
            *[{"on": [f"{chance.choice(folders)}/**"]}] * 4,
            {"on": ["/**"]},
            {"on": ["/f1*/0"]},
            {"set_on": {"group": f"g{chance.randrange(3)}"}},
            {"set_on": {"resource": f"{chance.choice(folders)}/1"}},
        ]
    )
    who = {
        chance.choice(["admit", "admit", "refuse"]): [
            chance.choice(["anyone", "signed in", *["moonlight"] * (chance.random() < 0.1)])
        ]
    }
    return {"rule": f"r{number}", "to": [chance.choice(["see", "change"])], **who, **place}


def test_only_what_a_change_touches_is_worked_out_anew(service: Service, organisation: Viewer) -> None:
    """Rules and resources come, change and go; each time the whole comes to what the touched part came to."""
    chance = random.Random(18)
    folders = [f"/f{n}" for n in range(12)]
    with service.unit(organisation) as unit:
        owner = unit.viewer.organisation
        system = System(organisation_id=owner, key="box", name="Box", kind="by_hand")
        unit.db.add(system)
        unit.db.flush()
        box = Account(
            organisation_id=owner,
            system_id=system.id,
            key="box",
            name="Box",
            kind="folder",
            sensitivity=2,
            purpose="",
            time_zone="UTC",
        )
        unit.db.add(box)
        unit.db.flush()
        for path, n in ((f"{folder}/{n}", n) for folder in folders for n in range(3)):
            unit.db.add(
                Resource(organisation_id=owner, account_id=box.id, key=path, name=path, path=path, above=[f"g{n}"])
            )
        account = box.id

    def shown(unit: Unit) -> set[tuple[Any, ...]]:
        columns = (Exposure.resource_id, Exposure.right, Exposure.digest, Exposure.gone_at.is_(None), Exposure.version)
        return {tuple(row) for row in unit.db.execute(select(*columns).where(Exposure.account_id == account))}

    def draft(unit: Unit) -> tuple[Any, ...]:
        """A draft that changes one rule, worked out by what it touches, and as a whole: the same."""
        box = unit.db.get_one(Account, account)
        plain = drafts.current(unit, account).document
        others = [each for each in plain["rules"] if each["rule"] != "r1"]
        document = json.dumps(
            {**plain, "rules": [*others, any_rule(chance, folders, 1)], "resources": [{"path": chance.choice(folders)}]}
        )
        if "moonlight" in document:
            return (None, None)
        found = []
        for way in (draft_changes._touched, lambda *_: None):
            with pytest.MonkeyPatch.context() as patched:
                patched.setattr(draft_changes, "_touched", way)
                told = draft_changes.told(unit, box, document)
            drawn = {(str(one.change), one.sentence, str(one.before), one.right) for one in told.lines}
            found.append((told.counts, told.forbidden, drawn))
        return tuple(found)

    parts = 0
    for step in range(40):
        with service.unit(organisation) as unit:
            number = step if step < 6 else chance.randrange(8)
            kept = unit.db.scalar(select(AccessRule).where(AccessRule.key == f"r{number}"))
            first = {"set_on": {"resource": f"/f{number}/0"}} if step < 6 else {}
            told = any_rule(chance, folders, number) | first
            if kept is None:
                unit.db.add(AccessRule(organisation_id=owner, account_id=account, key=f"r{number}", plain=told))
            elif chance.random() < 0.3:
                unit.db.delete(kept)
            else:
                kept.plain = told
            if step % 4 == 0:
                part = unit.db.scalars(select(Resource).order_by(Resource.key)).all()[chance.randrange(36)]
                part.above, part.archived_at = [f"g{chance.randrange(3)}"], unit.now if step % 8 == 0 else None
        with service.unit(organisation) as unit:
            parts += touched.touched(unit, unit.db.get_one(Account, account)) is not None
            evaluate.changed(unit, [account])
        with service.unit(organisation) as unit:
            assert touched.touched(unit, unit.db.get_one(Account, account)) in (set(), None)
            before = shown(unit)
            evaluate.accounts(unit, [account])
            assert shown(unit) == before, step
        with service.unit(organisation) as unit:
            touched_only, whole = draft(unit)
            assert touched_only == whole
    assert parts > 15


def test_rules_that_can_not_be_read_are_not_written_anew(
    space: Space, reader: Reader, service: Service, organisation: Viewer
) -> None:
    """Narrowing sets all rules of an account: one that is not understood would be lost or changed."""
    space.set_rules(OPEN, {"rule": "odd", "admit": ["moonlight"], "to": ["fetch"], "on": ["/own/**"]})
    space.cloud.state.outside = [
        {
            "space": SPACE,
            "path": "/press/huts.zip",
            "right": "see",
            "day": "2026-03-08",
            "who": "",
            "address": "198.51.100.7",
        }
    ]
    reader.clock.forward(minutes=1)
    assert readings.read(service, organisation.organisation, reader.system) is not None
    with service.unit(organisation) as unit:
        part = unit.db.scalars(select(Resource).where(Resource.name == "Pictures")).one()
        with pytest.raises(Conflict, match="can't be read here"):
            narrow.resources(unit, reader.account, [part.id])


def test_a_draft_that_others_overtake_is_not_set(
    space: Space, reader: Reader, service: Service, organisation: Viewer
) -> None:
    """Between asking and setting somebody opens more in the system; a second draft has to wait; both are told."""
    space.set_rules(OPEN)
    reader.read()
    shut = {"form": FORM, "rules": [], "guards": []}
    with service.unit(organisation) as unit:
        first, second = (drafts.make(unit, reader.account, json.dumps(shut)).id for _ in range(2))
        apply_rules.ask(unit, first, "Close it all.")
        with pytest.raises(Conflict, match="being set"):
            apply_rules.ask(unit, second, "Close it all, too.")
    space.set_rules(OPEN, DROP)
    reader.read()
    apply_rules.carry_out(service, organisation.organisation, first)
    with service.unit(organisation) as unit:
        told = drafts.one(unit, first)
        assert (told.state, "other rules by now" in told.failure) == ("failed", True)
    assert space.opens("/press/huts.zip")


def test_rules_that_are_not_understood_are_never_absent(
    space: Space, reader: Reader, service: Service, organisation: Viewer
) -> None:
    """A list that can't be read takes no rule for gone; one rule that can't be read counts as open to anyone."""
    space.set_rules(OPEN)
    before = reader.read()
    space.set_rules()
    space.cloud.state.rules[SPACE] = None  # type: ignore[assignment]
    assert reader.read() == before
    space.set_rules({"rule": "odd", "admit": ["moonlight"], "to": ["fetch"]})
    reader.clock.forward(minutes=1)
    assert readings.read(service, organisation.organisation, reader.system) is not None
    with service.unit(organisation) as unit:
        rows = register.page(unit, "exposures", ListQuery(limit=100)).rows
        assert {(row["audience"], row["understood"]) for row in rows} == {("anyone", False)}
        assert "the rule “odd”, which can't be read" in rows[0]["sentence"]


def test_an_account_of_others_is_nobody_elses_to_judge(
    space: Space, reader: Reader, service: Service, organisation: Viewer
) -> None:
    space.set_rules(OPEN)
    reader.read()
    stranger = Viewer(organisation.organisation, "Sam", _person(service, organisation))
    ident = reader.ident("Pictures", "see")
    with service.unit(stranger) as unit:
        for attempt in (
            lambda: judge.judge(unit, [ident], "to_close", ""),
            lambda: close_exposures.preview(unit, [ident]),
            lambda: pages.page(unit, ident),
            lambda: drafts.current(unit, reader.account),
            lambda: history.at_instant(unit, reader.account, unit.now),
        ):
            with pytest.raises(NotFound):
                attempt()
