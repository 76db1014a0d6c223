"""Every kind of system through the service: read, matched to people, taken away there, and proved."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import pytest
from cryptography.fernet import Fernet, InvalidToken, MultiFernet
from flask import request
from sqlalchemy import select

from openlatch.adapters import class_of
from openlatch.adapters.mail.sessions import MailSessions
from openlatch.core.journal import chain
from openlatch.core.vocabulary import StepKind
from openlatch.errors import Conflict, NotFound, SystemDown, SystemRefused
from openlatch.service import connections
from openlatch.service.changes import changes
from openlatch.service.grants import change_types, provisioning
from openlatch.service.revocations import prepare, revoke
from openlatch.service.revocations import steps as revocation_steps
from openlatch.service.systems import readings
from openlatch.service.unit import Service, Viewer
from openlatch.store import journal
from openlatch.store.tables import Account, Grant, Handle, Person, Resource, Session, System, Term, Use
from openlatch.test_systems.cloud import Cloud, Manners
from tests.adapters.worlds import WORLDS, World
from tests.conftest import Clock
from tests.service.ending import carry_on, connect, grant_of, start_ending


@pytest.mark.parametrize("kind", list(WORLDS))
def test_what_a_system_has_is_found_taken_away_there_and_proved(
    kind: str, make: Callable[[str], World], service: Service, organisation: Viewer, clock: Clock
) -> None:
    """The system's own client is asked; the journal holds."""
    world = make(kind)
    before = world.asked(world.stays)
    system = connect(service, organisation, world)
    grant, revocation = start_ending(service, organisation, world, world.goes)
    assert carry_on(service, organisation, clock, revocation) == "confirmed"
    assert world.asked(world.goes) == ""
    assert world.asked(world.stays) == before
    readings.read(service, organisation.organisation, system)
    with service.unit(organisation) as unit:
        assert (unit.db.get_one(Grant, grant).state, grant_of(unit, world, world.stays).state) == ("ended", "active")
        assert chain.verify(journal.export(unit.db, organisation.organisation), journal.head(unit.db)).sound
        stored = unit.db.get_one(System, system)
        assert not world.secret or world.secret not in f"{stored.settings} {stored.answer}"


@pytest.mark.parametrize("kind", [kind for kind in WORLDS if StepKind.GIVE in class_of(kind).can.steps])
def test_access_is_suspended_and_resumed_there(
    kind: str, make: Callable[[str], World], service: Service, organisation: Viewer
) -> None:
    """Just as it was, also on a host, where nothing new can be given from outside."""
    world = make(kind)
    connect(service, organisation, world)
    before = world.asked(world.stays)
    with service.unit(organisation) as unit:
        grant = grant_of(unit, world, world.stays).id

    def change(what: str) -> Any:
        with service.unit(organisation) as unit:
            changes.carry_out(unit, change_types.Change(change_types.ChangeKind(what), "For a week.", (grant,)))
        return provisioning.settle(service, organisation.organisation, grant)

    assert change("suspend") is None
    assert world.asked(world.stays) == ""
    assert change("resume") is None
    assert world.asked(world.stays) == before


def test_what_can_not_be_given_again_is_not_suspended(
    make: Callable[[str], World], service: Service, organisation: Viewer
) -> None:
    """A token is issued by hand: taken away for a while it would be gone for good."""
    world = make("oauth")
    connect(service, organisation, world)
    with service.unit(organisation) as unit:
        grant = grant_of(unit, world, world.stays).id
    wish = change_types.Change(change_types.ChangeKind("suspend"), "For a week.", (grant,))
    with pytest.raises(Conflict, match="can't be suspended"), service.unit(organisation) as unit:
        changes.carry_out(unit, wish)
    assert world.asked(world.stays)


def test_drift_is_adopted_with_an_owner_or_restored(
    make: Callable[[str], World], service: Service, organisation: Viewer
) -> None:
    """What nobody recorded is vouched for once; what the system lost is given there again."""
    world = make("directory")
    system = connect(service, organisation, world)
    with service.unit(organisation) as unit:
        unit.db.add(owner := Person(organisation_id=organisation.organisation, name="Ines", inside=True))
        unit.db.flush()
        grant, ines = grant_of(unit, world, world.stays).id, owner.id
    adopt = change_types.Change(change_types.ChangeKind.ADOPT, "Bob is on the list.", (grant,), successor=ines)
    with service.unit(organisation) as unit:
        assert "Ines owns" in changes.preview(unit, adopt).lines[0].does
        assert not unit.db.get_one(Grant, grant).recorded
    with service.unit(organisation) as unit:
        changes.carry_out(unit, adopt)
    with pytest.raises(Conflict, match="recorded already"), service.unit(organisation) as unit:
        changes.carry_out(unit, adopt)
    with pytest.raises(Conflict, match="as it is recorded"), service.unit(organisation) as unit:
        changes.carry_out(unit, change_types.Change(change_types.ChangeKind.RESTORE, "It was lost.", (grant,)))
    with service.unit(organisation) as unit:
        row = unit.db.get_one(Grant, grant)
        assert row.recorded
        assert unit.db.get_one(Account, row.account_id).owner_id == ines
        handle = dict(row.handle)
    adapter = world.adapter()
    adapter.apply(StepKind.REMOVE, handle)
    outcome = readings.read(service, organisation.organisation, system)
    assert outcome is not None
    assert outcome.missing == 1
    with service.unit(organisation) as unit:
        changes.carry_out(unit, change_types.Change(change_types.ChangeKind.RESTORE, "It was lost.", (grant,)))
    assert provisioning.settle(service, organisation.organisation, grant) is None
    assert world.asked(world.stays) == "member"


def test_people_are_told_by_their_address_and_use_and_parts_are_kept(
    make: Callable[[str], World], service: Service, organisation: Viewer, clock: Clock
) -> None:
    """Ann is one person in a directory, a mail server and a cloud service; two with one address are nobody."""
    with service.unit(organisation) as unit:
        # Whoever has left may have had an address that is somebody else's by now.
        for name, address, standing in (
            ("Ann Lee", "Ann@example.org", "current"),
            ("Bob", "bob@example.org", "current"),
            ("Rob", "bob@example.org", "left"),
        ):
            unit.db.add(
                Person(
                    organisation_id=organisation.organisation,
                    name=name,
                    address=address,
                    inside=True,
                    standing=standing,
                )
            )
    for kind in ("directory", "mailboxes", "cloud"):
        world = make(kind)
        if kind == "mailboxes":
            world.settings["domain"] = "example.org"
        connect(service, organisation, world)
    with service.unit(organisation) as unit:
        ann = unit.db.scalars(select(Person).where(Person.name == "Ann Lee")).one()
        # What she has as everybody does who signs in to the mail server is a path of its own.
        held = unit.db.scalars(select(Grant).where(Grant.person_id == ann.id, ~Grant.by_system)).all()
        assert len(held) == 3
        bobs = select(Handle.name).join(Person, Person.id == Handle.person_id).where(Person.name.in_(("Bob", "Rob")))
        assert unit.db.scalars(bobs).all() == []
        assert unit.db.scalar(select(Use.days).join(Grant).where(Grant.person_id == ann.id, Use.permission == "change"))
        assert sum(grant.last_used_at is not None for grant in held) == 2
        given = select(Resource.name).join(Term, Term.resource_id == Resource.id).join(Grant, Grant.id == Term.grant_id)
        assert "Refunds" in unit.db.scalars(select(Resource.name)).all()
        assert unit.db.scalars(given.where(Grant.person_id == ann.id)).all() == []
        public = unit.db.scalars(select(Resource.name).where(Resource.public)).all()
        assert public == ["Inbox"]
    connect(service, organisation, make("host"))
    with service.unit(organisation) as unit:
        # A user of the host is called like her and has no address: somebody else, until a person says so.
        called = unit.db.scalars(select(Person.name).where(Person.name.like("Ann Lee%")).order_by(Person.name)).all()
        assert called == ["Ann Lee", "Ann Lee (user:ann)"]


@pytest.mark.parametrize(
    "manners",
    [
        Manners(reduce_first=True, waits_for_person=True),
        Manners(delay=0.3),
        Manners(limit=3),
        Manners(shifts=True),
    ],
    ids=lambda manners: ",".join(name for name, on in vars(manners).items() if on),
)
def test_awkward_manners_of_a_service_do_not_keep_access(
    manners: Manners, make: Callable[[str], World], service: Service, organisation: Viewer, clock: Clock
) -> None:
    """The plan ends, and the service shows that it did; a full member never has to agree."""
    world = make("cloud")
    connect(service, organisation, world)
    simulated: Cloud = world.extra["service"]
    simulated.manners = manners
    _, revocation = start_ending(service, organisation, world, world.goes)
    for _ in range(30):
        if carry_on(service, organisation, clock, revocation, 1) == "confirmed":
            break
        simulated.settle()
    simulated.manners = Manners()
    assert world.asked(world.goes) == ""
    with service.unit(organisation) as unit:
        assert revocation_steps.page(unit, revocation).state == "confirmed"


def test_a_service_that_says_done_when_it_is_not_is_found_out(
    make: Callable[[str], World], service: Service, organisation: Viewer, clock: Clock
) -> None:
    """The steps are open again, the grant still reads revoking; once the service does it, it is proved."""
    world = make("cloud")
    connect(service, organisation, world)
    simulated: Cloud = world.extra["service"]
    simulated.manners = Manners(says_done=True)
    grant, revocation = start_ending(service, organisation, world, world.goes)
    assert carry_on(service, organisation, clock, revocation, 3) != "confirmed"
    with service.unit(organisation) as unit:
        steps = revocation_steps.page(unit, revocation).step_list
        assert any("Contradicted" in step.answer or "still" in step.answer for step in steps)
        assert unit.db.get_one(Grant, grant).state == "revoking"
    simulated.manners = Manners()
    assert carry_on(service, organisation, clock, revocation) == "confirmed"
    assert world.asked(world.goes) == ""


def test_an_outage_or_pages_that_never_settle_make_nothing_look_gone(
    make: Callable[[str], World], service: Service, organisation: Viewer, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The system is marked as down with what it said; grants and sessions stay."""
    world = make("cloud")
    assert world.session is not None
    world.session()
    system = connect(service, organisation, world)
    simulated: Cloud = world.extra["service"]

    def live() -> tuple[int, int]:
        with service.unit(organisation) as unit:
            grants = unit.db.scalars(select(Grant.id).where(Grant.state == "active", Grant.missing_since.is_(None)))
            return len(grants.all()), len(unit.db.scalars(select(Session.id).where(Session.ended_at.is_(None))).all())

    before = live()
    simulated.manners = Manners(down=True)
    assert readings.read(service, organisation.organisation, system) is None
    usual: Any = simulated.page

    def shifting(rows: list[dict[str, Any]]) -> list[dict[str, Any]]:
        simulated.manners.shifts = request.args["startIndex"] == "101"
        return usual(rows)  # type: ignore[no-any-return]

    simulated.manners = Manners()
    monkeypatch.setattr(simulated, "page", shifting)
    assert readings.read(service, organisation.organisation, system) is None
    assert live() == before
    with service.unit(organisation) as unit:
        stored = unit.db.get_one(System, system)
        assert stored.down_since is not None
        assert "changes faster than it can be read" in stored.answer


def test_settings_that_do_not_work_are_refused_before_they_are_kept(
    make: Callable[[str], World], service: Service, organisation: Viewer
) -> None:
    """With what is missing."""
    world = make("directory")
    wrong = {**world.settings, "groups": "ou=nowhere,dc=example,dc=org"}
    with pytest.raises(SystemRefused, match="can't read ou=nowhere"):
        connections.connect(service, organisation, "d", "Directory", "directory", wrong, world.secret)
    away = {**world.settings, "port": 1}
    with pytest.raises(SystemDown):
        connections.connect(service, organisation, "d", "Directory", "directory", away, world.secret)
    with service.unit(organisation) as unit:
        assert unit.db.scalars(select(System)).all() == []


@pytest.mark.parametrize("kind", ["postgresql", "mailboxes", "host", "cloud"])
def test_one_ends_ones_own_session_there(
    kind: str, make: Callable[[str], World], service: Service, organisation: Viewer, clock: Clock
) -> None:
    """Without anyone's leave; the access stays, and it is nobody else's to end."""
    world = make(kind)
    assert world.session is not None
    login, goes_on = world.session()
    connect(service, organisation, world)
    with service.unit(organisation) as unit:
        session, person = unit.db.execute(
            select(Session, Person)
            .join(Person, Person.id == Session.person_id)
            .join(Handle, Handle.person_id == Person.id)
            .where(Handle.name == login)
        ).one()
        grants = select(Grant.state).where(Grant.person_id == person.id).order_by(Grant.id)
        before = list(unit.db.scalars(grants))
    with service.unit(organisation) as unit, pytest.raises(NotFound):
        changes.end_own_session(unit, session.id)
    with service.unit(Viewer(organisation.organisation, person.name, person.id)) as unit:
        revocation = changes.end_own_session(unit, session.id).revocation_id
    assert carry_on(service, organisation, clock, revocation) == "confirmed"
    assert not goes_on()
    with service.unit(organisation) as unit:
        assert unit.db.get_one(Session, session.id).ended_as == "revoked"
        assert list(unit.db.scalars(grants)) == before


@pytest.mark.parametrize("kind", ["postgresql", "mailboxes", "host", "cloud"])
def test_sessions_are_told_and_end_with_the_access(
    kind: str, make: Callable[[str], World], service: Service, organisation: Viewer, clock: Clock
) -> None:
    """In every kind of system that tells of them; the preview says so, and what is open there is closed."""
    world = make(kind)
    assert world.session is not None
    login, goes_on = world.session()
    connect(service, organisation, world)
    with service.unit(organisation) as unit:
        (session,) = unit.db.scalars(
            select(Session).join(Handle, Handle.person_id == Session.person_id).where(Handle.name == login)
        )
        wanted = select(Grant.id).where(Grant.account_id == session.account_id, Grant.person_id == session.person_id)
        grant = unit.db.scalars(wanted).one()
        wish = prepare.Wish(grants=(grant,))
        assert [shown.id for shown in revoke.preview(unit, wish).sessions] == [session.id]
        revocation = revoke.start(unit, wish, "The season is over.")
    assert goes_on()
    assert carry_on(service, organisation, clock, revocation) == "confirmed"
    assert not goes_on()
    with service.unit(organisation) as unit:
        assert unit.db.get_one(Session, session.id).ended_as == "revoked"
        assert unit.db.get_one(Grant, grant).ended_as == "revoked"


def test_a_mail_servers_administration_that_fails_is_told_with_what_to_do(
    make: Callable[[str], World], service: Service, organisation: Viewer
) -> None:
    """A wrong password or address is refused before it is kept; without one there are no sessions."""
    world = make("mailboxes")
    port = world.settings["port"]
    for settings, error, said in (
        ({"sessions": f"http://127.0.0.1:{port}"}, SystemDown, "administration did not answer"),
        ({"sessions": "http://"}, SystemDown, "administration did not answer"),
    ):
        with pytest.raises(error, match=said):
            connections.connect(
                service, organisation, "m", "M", "mailboxes", {**world.settings, **settings}, world.secret
            )
    administration = MailSessions(world.settings["sessions"], "wrong")
    with pytest.raises(SystemRefused, match="refused the password") as refused:
        administration.going_on()
    assert "doveadm_password" in refused.value.remedy
    without = {name: value for name, value in world.settings.items() if name != "sessions"}
    ident = connections.connect(service, organisation, "m", "M", "mailboxes", without, world.secret)
    assert world.session is not None
    world.session()
    outcome = readings.read(service, organisation.organisation, ident)
    assert outcome is not None
    assert outcome.sessions_seen == 0
    adapter = world.adapter(sessions="")
    with pytest.raises(SystemRefused, match="does not tell of sessions"):
        adapter.confirm(StepKind.END_SESSIONS, {"who": "bob", "process": "1"})


def test_what_answers_people_opens_no_secret_of_a_system(
    make: Callable[[str], World], service: Service, organisation: Viewer, clock: Clock
) -> None:
    """It previews and starts what the worker carries out; the worker puts old secrets under their own key."""
    world = make("cloud")
    ident = connect(service, organisation, world)
    key = MultiFernet([Fernet(Fernet.generate_key()), service.cipher])
    worker = replace(service, systems_cipher=key)
    assert [connections.renew_secrets(worker, organisation) for _ in range(2)] == [1, 0]
    with service.unit(organisation) as unit:
        secret = unit.db.get_one(System, ident).secret
        assert secret is not None
    with pytest.raises(InvalidToken):
        service.cipher.decrypt(secret)
    web = replace(service, holds_secrets=False)
    with web.unit(organisation) as unit:
        grant = grant_of(unit, world, world.goes).id
        assert revoke.preview(unit, prepare.Wish((grant,))).steps
        begun = revoke.start(unit, prepare.Wish((grant,)), "Over.")
        readings.ask_to_read(unit, ident)
    assert carry_on(worker, organisation, clock, begun) == "confirmed"
    assert world.asked(world.goes) == ""
