"""People as a directory keeps them, and what becomes of whoever is switched off."""

from __future__ import annotations

from dataclasses import replace

from sqlalchemy import event, func, select, update

from openlatch.core.vocabulary import GrantState, Standing
from openlatch.service.people import erasure, held_data
from openlatch.service.records import merge
from openlatch.service.scim import users
from openlatch.service.unit import Viewer
from openlatch.store.tables import (
    Account,
    Grant,
    IdentityProvider,
    Mark,
    Notice,
    Organisation,
    Person,
    ProviderSubject,
    ScimRecord,
    SignIn,
    WebSession,
)
from tests.service.conftest import Small


def switch(small: Small, address: str, is_active: bool) -> users.Held:
    with small.service.unit(directory(small)) as unit:
        _, (held,) = users.listed(unit, [users.named(address)], 0, 2)
        return users.replace(unit, held.id, replace(held.user, active=is_active))


def standing(small: Small, key: str) -> tuple[str, int]:
    """Where somebody stands, and how many live grants they have of their own."""
    with small.service.unit(small.itself) as unit:
        person = unit.db.scalars(select(Person).where(Person.key == key)).one()
        live = select(func.count(Grant.id)).where(
            Grant.person_id == person.id, Grant.state.in_([GrantState.ACTIVE, GrantState.SUSPENDED])
        )
        return person.standing, unit.db.scalar(live) or 0


def last_notice(small: Small) -> str:
    with small.service.unit(small.itself) as unit:
        return unit.db.scalars(select(Notice.sentence).order_by(Notice.id.desc()).limit(1)).one()


def test_somebody_switched_off_is_put_to_administrators_and_can_not_sign_in(small: Small) -> None:
    """What they have stays until somebody has decided; back on, they sign in as before."""
    small.signed_in("mara")
    before = standing(small, "mara")
    assert before[1] > 0
    assert not switch(small, "mara@example.org", False).user.active
    assert standing(small, "mara") == before
    assert "Decide what becomes of their access" in last_notice(small)

    def suspended() -> bool:
        with small.service.unit(small.itself) as unit:
            return (
                unit.db.scalars(select(SignIn).where(SignIn.address == "mara@example.org")).one().suspended_at
                is not None
            )

    assert suspended()
    assert switch(small, "mara@example.org", True).user.active
    assert not suspended()


def test_where_it_is_set_all_that_they_have_ends_at_once(small: Small) -> None:
    """And administrators are asked where somebody has to be found first who takes over."""
    with small.service.unit(small.itself) as unit:
        row = unit.db.get_one(Organisation, small.itself.organisation)
        row.settings = {**row.settings, "when_deactivated": users.AT_ONCE}
    with small.service.unit(small.itself) as unit:
        unit.db.execute(update(Account).where(Account.key == "rota").values(owner_id=small.person("ines")))
    switch(small, "owen@example.net", False)
    assert standing(small, "owen") == (Standing.LEFT, 0), last_notice(small)
    before = standing(small, "mara")
    assert not switch(small, "mara@example.org", False).user.active
    assert standing(small, "mara") == before
    assert "Nobody would answer for Ledger" in last_notice(small)


def directory(small: Small) -> Viewer:
    return Viewer(small.itself.organisation, "Directory “Staff directory”", administrator=True)


def test_what_directories_and_providers_say_of_somebody_is_theirs_to_see_and_erased_with_them(small: Small) -> None:
    """Without what proves who they are to a provider."""
    owen, who = small.person("owen"), small.signed_in("owen")
    with small.service.unit(directory(small)) as unit:
        held = users.one(unit, owen)
        mail = [users.Email("owen@example.net", True, "work", "Owen the cook")]
        users.replace(unit, owen, replace(held.user, user_name="o.cook", external_id="17", emails=mail))
    with small.service.unit(small.itself) as unit:
        provider = IdentityProvider(name="Fellside", issuer="https://login.example.org", client_id="latch")
        provider.organisation_id = small.itself.organisation
        unit.db.add(provider)
        unit.db.flush()
        subject = {"provider_id": provider.id, "subject": "s-owen", "sign_in_id": who.sign_in}
        unit.db.add(ProviderSubject(organisation_id=small.itself.organisation, **subject))
        session = unit.db.scalars(select(WebSession)).one()
        session.provider_id, session.provider_token = provider.id, b"a sealed token"
    with small.service.unit(who) as unit:
        taken = held_data.of_person(unit, owen)
    assert (taken.directory[0]["user_name"], taken.identity_providers[0]["subject"]) == ("o.cook", "s-owen")
    assert "sealed token" not in taken.model_dump_json()
    with small.service.unit(small.itself) as unit:
        unit.db.execute(update(Grant).where(Grant.person_id == owen).values(state="ended", ended_as="revoked"))
        unit.db.execute(update(Person).where(Person.id == owen).values(standing="left", leaves_at=unit.now))
    with small.acting_as_administrator("ines") as unit:
        erasure.erase(unit, owen)
    with small.service.unit(small.itself) as unit:
        assert unit.db.scalar(select(func.count(ScimRecord.id))) == 0
        assert unit.db.scalar(select(func.count(ProviderSubject.id))) == 0


def test_a_directory_gives_the_staff_number_and_leaves_the_other_marks_alone(small: Small) -> None:
    owen = small.person("owen")
    with small.service.unit(small.itself) as unit:
        unit.db.add(Mark(organisation_id=small.itself.organisation, person_id=owen, kind="uid", value="4711"))
    for number in ("17", "18"):
        with small.service.unit(directory(small)) as unit:
            users.replace(unit, owen, replace(users.one(unit, owen).user, employee_number=number))
    with small.service.unit(small.itself) as unit:
        marks = unit.db.execute(select(Mark.kind, Mark.value).where(Mark.person_id == owen).order_by(Mark.kind)).all()
    assert [tuple(mark) for mark in marks] == [("employee", "18"), ("uid", "4711")]


def test_two_records_of_a_directory_that_are_one_person_stay_one_user(small: Small) -> None:
    """The one that is kept; the other is not there any more for the directory."""
    with small.service.unit(directory(small)) as unit:
        one = users.create(unit, users.User("mara", "Mara", emails=[users.Email("mara@example.org", True)]))
        other = users.create(unit, users.User("m.two", "Mara Two"))
        assert one.id == small.person("mara")
    with small.acting_as_administrator("ines") as unit:
        merge.merge(unit, "people", one.id, other.id)
    with small.service.unit(directory(small)) as unit:
        _, found = users.listed(unit, [ScimRecord.id.is_not(None)], 0, 9)
        assert [(held.id, held.user.user_name) for held in found] == [(one.id, "mara")]


def test_many_users_are_read_by_a_few_questions(small: Small) -> None:
    asked: list[str] = []
    with small.service.unit(directory(small)) as unit:
        event.listen(unit.db.get_bind(), "before_cursor_execute", lambda *call: asked.append(call[2]))
        users.listed(unit, [], 0, 1)
        for_one = len(asked)
        count, held = users.listed(unit, [], 0, 100)
        assert count == len(held) > 4
        assert len(asked) == 2 * for_one
