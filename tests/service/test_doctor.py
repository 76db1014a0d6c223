"""The register is examined: what holds together is said to, and what does not is named."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from uuid import uuid4

import psycopg
import pytest
from cryptography.fernet import Fernet
from sqlalchemy import select

from openlatch.runtime.cluster import Cluster
from openlatch.service import doctor
from openlatch.service.revocations import prepare, revoke
from openlatch.store.tables import Grant, Revocation, Step, System
from tests.service.conftest import Small


def found(small: Small) -> dict[str, doctor.Check]:
    return {check.what: check for check in doctor.examine(small.service)}


def test_a_register_that_is_as_it_should_be(small: Small) -> None:
    """Everything is looked at, and nothing is wrong."""
    with small.acting_as_administrator("ines") as unit:
        revoke.start(unit, prepare.Wish(grants=(small.grant_of("mara", "box"),)), "The season is over.")
    checks = found(small)
    assert [check for check in checks.values() if check.wrong or check.late] == []
    assert checks["journal"].looked_at > 10
    assert checks["revocations"].looked_at == 1
    assert checks["earlier versions"].looked_at > 0


@pytest.mark.parametrize(
    ("statement", "what", "words"),
    [
        ("update journal set action = 'other' where position = 3", "journal", "altered"),
        ("delete from journal where position = 3", "journal", "missing"),
        ("update versions set until = since - interval '1 day'", "earlier versions", "overlaps"),
        ("delete from rosters", "rosters", "Wardens has none"),
        ("update revocations set settled_at = now()", "revocations", "is being revoked, by no revocation"),
        ("update alembic_version set version_num = '0001'", "tables", "is at revision 0001"),
    ],
)
def test_what_does_not_hold_together_is_named(
    small: Small, cluster: Cluster, database: str, statement: str, what: str, words: str
) -> None:
    """By whoever can write where nobody should."""
    with small.acting_as_administrator("ines") as unit:
        revoke.start(unit, prepare.Wish(grants=(small.grant_of("mara", "box"),)), "The season is over.")
    with psycopg.connect(cluster.url(database)) as db:
        db.execute("set session_replication_role = replica")
        db.execute(statement)  # type: ignore[call-overload]
    checks = found(small)
    assert {name for name, check in checks.items() if check.wrong} == {what}
    assert any(words in one for one in checks[what].wrong)


def test_another_key_and_what_is_late(small: Small) -> None:
    """After a restore with the keys of another installation; and a worker that has not run for days."""
    with small.service.unit(small.itself) as unit:
        row = unit.db.scalars(select(System)).first()
        assert row is not None
        row.secret = Fernet(Fernet.generate_key()).encrypt(b"word")
        row.read_at = unit.now - timedelta(days=3)
        revoke.start(unit, prepare.Wish(grants=(small.grant_of("mara", "box"),)), "The season is over.")
        grant = unit.db.scalars(select(Grant)).first()
        assert grant is not None
        going_on = unit.db.scalars(select(Revocation)).one()
        account, before = grant.account_id, unit.now - timedelta(days=2)
        told = {
            "revocation_id": going_on.id,
            "account_id": account,
            "kind": "remove",
            "sentence": "x",
            "next_try_at": before,
        }
        unit.db.add(Step(id=uuid4(), organisation_id=small.itself.organisation, position=99, **told))
    checks = found(small)
    assert any("does not open" in words for words in checks["systems"].wrong)
    assert any("was last read" in words for words in checks["systems"].late)
    assert checks["revocations"].late == ["1 step is due since a day or longer"]
    other = replace(small, service=replace(small.service, cipher=Fernet(Fernet.generate_key()), token_keys=[]))
    # Tokens get another key; those that were given are over.
    assert found(other)["keys for tokens"].looked_at == 1
