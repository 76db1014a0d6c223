"""The store on a real PostgreSQL: migrations, row-level security, filters and pages, imports, the journal."""

from __future__ import annotations

import io
import threading
from dataclasses import replace
from datetime import UTC, datetime
from typing import Any
from uuid import UUID

import psycopg
import pytest
from alembic import command
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import create_engine, literal, select, text
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

from openlatch.api.app import make_app
from openlatch.core.filters import check, matches, parse
from openlatch.core.journal import chain
from openlatch.errors import BadInput, Conflict, OutcomeUnknown, RegisterDown
from openlatch.runtime.cluster import Cluster
from openlatch.service import imports
from openlatch.service.identity import authentication
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store import journal
from openlatch.store.database import alone, driver_of, leases, transaction
from openlatch.store.lists.engine import ListQuery, nested
from openlatch.store.lists.register import PEOPLE
from openlatch.store.migrate import config_for, is_ours
from openlatch.store.tables import Account, Base, Grant, Organisation, Person
from tests.conftest import lines


def bring(service: Service, viewer: Viewer, kind: str, written: str, form: str = "csv", **how: bool) -> imports.Report:
    """Import text as a file."""
    with service.unit(viewer) as unit:
        keep_good, try_only = how.get("keep_good", False), how.get("try_only", False)
        return imports.bring(unit, kind, form, io.BytesIO(written.encode()), keep_good, try_only)


def test_the_migrations_give_the_tables_that_the_code_expects(cluster: Cluster, database: str) -> None:
    """Nothing is left for another migration to do."""
    engine = create_engine(cluster.url(database).replace("postgresql:", "postgresql+psycopg:"))
    with engine.connect() as connection:
        context = MigrationContext.configure(connection, opts={"include_name": is_ours})
        assert compare_metadata(context, Base.metadata) == []
    engine.dispose()


def test_rows_that_could_not_be_shown_are_put_right(cluster: Cluster, database: str, service: Service) -> None:
    """Instants of the year 1 or far away, and time zones that there are not, as earlier versions took them."""
    viewer = authentication.make_organisation(
        service, "Odd", "odd", "UTC", "Bo", "bo@odd.example.org", "a long password"
    )
    engine = create_engine(cluster.url(database).replace("postgresql:", "postgresql+psycopg:"))
    with engine.connect() as connection:
        command.downgrade(config_for(connection), "0014")
        connection.execute(text("update organisations set time_zone = 'Europe/Londn'"))
        connection.execute(
            text("update people set away_since = '0001-01-01 BC', away_until = '9999-12-31 23:59:59-14'")
        )
        connection.commit()
        command.upgrade(config_for(connection), "head")
    engine.dispose()
    with service.unit(viewer) as unit:
        person = unit.db.scalars(select(Person)).one()
        assert (person.away_since, person.away_until) == (datetime(1970, 1, 1, tzinfo=UTC), None)
        assert unit.db.get_one(Organisation, viewer.organisation).time_zone == "UTC"


def test_every_table_of_an_organisation_is_guarded(cluster: Cluster, database: str) -> None:
    """One that somebody adds and forgets to guard fails here."""
    with psycopg.connect(cluster.url(database)) as db:
        rows = db.execute(
            "select c.relname from pg_class c "
            "join pg_attribute a on a.attrelid = c.oid and a.attname = 'organisation_id' "
            "where c.relkind = 'r' and c.relnamespace = 'public'::regnamespace and not c.relrowsecurity"
        ).fetchall()
    assert rows == []


def test_nothing_is_visible_across_organisations(service: Service, organisation: Viewer) -> None:
    """Not even to a query that forgets to ask, nor can a row be put into another organisation."""
    other = authentication.make_organisation(
        service, "Other", "other", "UTC", "Bo", "bo@example.org", "a long password"
    )
    with transaction(service.engine, other.organisation) as db:
        assert [p.name for p in db.scalars(select(Person))] == ["Bo"]
        db.add(Person(organisation_id=organisation.organisation, name="Spy", inside=True))
        with pytest.raises(DBAPIError, match="row-level security"):
            db.flush()
        db.rollback()
    with transaction(service.engine, None) as db:
        assert db.scalars(select(Person)).all() == []


def test_the_journal_can_only_be_added_to(
    service: Service, organisation: Viewer, cluster: Cluster, database: str
) -> None:
    """Neither the service's role nor the owner can change it in passing."""
    for statement in ("update journal set action = 'x'", "delete from journal", "truncate journal"):
        with transaction(service.engine, organisation.organisation) as db, pytest.raises(DBAPIError, match="denied"):
            db.execute(text(statement))
        with psycopg.connect(cluster.url(database)) as owner, pytest.raises(psycopg.Error, match="only be added to"):
            owner.execute(statement)  # type: ignore[call-overload]


def test_the_stored_journal_verifies_and_tampering_behind_its_back_shows(
    service: Service, organisation: Viewer, cluster: Cluster, database: str
) -> None:
    """Also when somebody switches the guard off first."""
    bring(service, organisation, "people", "key,name\n" + "".join(f"k{n},N{n}\n" for n in range(150)))

    def verdict() -> chain.Verdict:
        with transaction(service.engine, organisation.organisation) as db:
            return chain.verify(journal.export(db, organisation.organisation), journal.head(db))

    assert verdict().sound
    assert verdict().entries == 152
    with psycopg.connect(cluster.url(database)) as owner:
        owner.execute("alter table journal disable trigger user")
        owner.execute("update journal set facts = '{\"x\": 1}' where position = 77")
    assert [fault.position for fault in verdict().faults] == [77]
    with psycopg.connect(cluster.url(database)) as owner:
        owner.execute("delete from journal where position > 150")
    assert not verdict().sound


_words = st.sampled_from(["Mara", "mara O'Dell", "50%", "a_b", "Øde\\gård", ""])
_rows = st.lists(st.tuples(_words, st.none() | _words, st.booleans(), st.integers(0, 2)), max_size=6)
_texts = st.builds(
    lambda name, op, value: f"{name} {op} {value}",
    st.sampled_from(["name", "address"]),
    st.sampled_from(["eq", "ne", "co", "sw", "ew", "gt", "le"]),
    st.sampled_from(['"mara"', '"%"', '"_"', '"ø"', '""', '"\\\\"', '"O\'"']),
)
_leaves = st.one_of(
    _texts,
    st.sampled_from(["address pr", "address eq null", "inside eq true", "inside ne true", "recognised eq false"]),
)
_filters = st.recursive(
    _leaves,
    lambda inner: st.one_of(
        st.builds("({}) and ({})".format, inner, inner),
        st.builds("({}) or ({})".format, inner, inner),
        st.builds("not ({})".format, inner),
    ),
    max_leaves=4,
)


@given(_rows, _filters)
def test_a_filter_means_the_same_in_sql_and_in_python(
    service: Service, organisation: Viewer, rows: list[tuple[str, str | None, bool, int]], written: str
) -> None:
    """Case, wildcards, quotes and missing values included."""
    with transaction(service.engine, organisation.organisation) as db:
        db.execute(text("delete from sign_ins"))
        db.execute(text("delete from people"))
        for name, address, inside, _ in rows:
            # Two current people never have one address; those who have left may.
            left = Person(
                organisation_id=organisation.organisation, name=name, address=address, inside=inside, standing="left"
            )
            db.add(left)
        db.flush()
        flat = [
            {"name": p.name, "address": p.address, "inside": p.inside, "recognised": True, "id": p.id}
            for p in db.scalars(select(Person))
        ]
        node = check(parse(written), PEOPLE.attributes)
        expected = {row["id"] for row in flat if matches(node, row)}
        assert {row["id"] for row in PEOPLE.all(db, written)} == expected
        db.rollback()


@pytest.mark.parametrize("sort", ["name", "-name", "address", "-address", "leaves_at", "-grants"])
def test_pages_visit_every_row_once(service: Service, organisation: Viewer, sort: str) -> None:
    """Through equal values and missing ones, both ways round."""
    people = "".join(f"k{n},{'abc'[n % 3]},{'' if n % 4 else f'p{n}@example.org'}\n" for n in range(23))
    bring(service, organisation, "people", f"key,name,address\n{people}")
    with transaction(service.engine, organisation.organisation) as db:
        seen: list[UUID] = []
        cursor = ""
        while True:
            page = PEOPLE.page(db, ListQuery(sort=sort, limit=5, cursor=cursor, count=True))
            seen += [row["id"] for row in page.rows]
            cursor = page.next
            if not cursor:
                break
        assert (len(seen), len(set(seen)), page.count) == (24, 24, 24)
        whole = PEOPLE.page(db, ListQuery(sort=sort, limit=500))
        assert [row["id"] for row in whole.rows] == seen


@pytest.mark.parametrize("cursor", ["x", "eyJhIjoxfQ", "WyJuYW1lIiwxLCJ4Il0", "!!!!"])
def test_a_made_up_cursor_is_refused(service: Service, organisation: Viewer, cursor: str) -> None:
    """With a sentence, not an error of the database."""
    with transaction(service.engine, organisation.organisation) as db:
        for query in (ListQuery(cursor=cursor), ListQuery(limit=0), ListQuery(sort="shoe")):
            with pytest.raises(BadInput):
                PEOPLE.page(db, query)


def test_an_object_without_an_id_is_null() -> None:
    """An account nobody owns has no owner, rather than an owner without a name."""
    row: dict[str, Any] = {"id": 1, "owner.id": None, "owner.name": None, "system.id": 2, "system.name": "x"}
    assert nested(row) == {"id": 1, "owner": None, "system": {"id": 2, "name": "x"}}


LEVELS = "system,key,name,sentence,permissions\nMail,read,Read,Can read.,mail.read|Read it|observe\n"
BASE = {
    "people": "key,name,address\nmara,Mara,m@example.org\nines,Ines,i@example.org\n",
    "accounts": "key,name,system,sensitivity,owner\nbox,Box,Mail,3,ines\n",
    "levels": LEVELS,
    "apps": "key,name\nsync,Sync\n",
    "grants": "account,holder_kind,holder,level,until,given_by,last_used_at\n"
    "box,person,mara,read,9999-12-31,ines,2026-03-01\nbox,app,sync,read,2026-05-01,ines,\n",
    "sessions": "key,account,holder,started_at\ns1,box,mara,2026-03-01T08:00:00Z\n",
    "use": "account,holder,last_used_at\nbox,mara,2026-03-09\n",
}


def load_base(service: Service, viewer: Viewer) -> None:
    for kind, written in BASE.items():
        assert bring(service, viewer, kind, written).kept


def test_the_same_files_twice_change_nothing(service: Service, organisation: Viewer) -> None:
    """Not a row, not an entry of the journal."""
    load_base(service, organisation)
    with transaction(service.engine, organisation.organisation) as db:
        before = journal.head(db)
    for kind, written in BASE.items():
        report = bring(service, organisation, kind, written)
        assert (report.kept, report.added, report.changed) == (True, 0, 0), kind
        assert report.unchanged == report.read
    with transaction(service.engine, organisation.organisation) as db:
        assert journal.head(db) == before


def test_a_changed_line_changes_its_row_and_says_so(service: Service, organisation: Viewer) -> None:
    """And only that row; use never goes backwards; what ended here stays ended."""
    load_base(service, organisation)
    report = bring(service, organisation, "people", BASE["people"].replace("Mara,", "Mara Oduya,"))
    assert (report.added, report.changed, report.unchanged) == (0, 1, 1)
    moved = bring(service, organisation, "grants", BASE["grants"].replace("9999-12-31", "2026-04-01"))
    assert (moved.added, moved.changed) == (0, 1)
    older = BASE["use"].replace("03-09", "02-01")
    assert [bring(service, organisation, "use", older).changed for _ in range(2)] == [1, 0]
    with service.unit(organisation) as unit:
        assert (
            f"{unit.db.scalars(select(Grant.last_used_at).where(Grant.last_used_at.is_not(None))).one():%m-%d}"
            == "03-09"
        )
        unit.db.execute(text("update grants set state = 'ended', ended_as = 'revoked', ended_at = now()"))
    assert bring(service, organisation, "grants", BASE["grants"].replace("ines,2026", "mara,2026")).changed == 0


def test_a_bad_line_keeps_everything_out_unless_asked_otherwise(service: Service, organisation: Viewer) -> None:
    """Each is reported with its number and field, whether a field or a name is wrong."""
    load_base(service, organisation)
    written = (
        "account,holder,level,until\n"
        "box,ines,read,2026-05-01\n"
        "nowhere,ines,read,\n"
        "box,nobody,read,\n"
        "box,ines,fly,\n"
        "box,mara,read,someday\n"
        "box,ines,read,2026-06-01\n"
    )
    report = bring(service, organisation, "grants", written)
    assert not report.kept
    assert [(e.line, e.field) for e in report.errors] == [
        (3, "account"),
        (3, "level"),
        (4, "holder"),
        (5, "level"),
        (6, "until"),
        (7, "level"),
    ]
    assert (report.read, report.bad) == (6, 5)
    with transaction(service.engine, organisation.organisation) as db:
        assert len(db.scalars(select(Grant)).all()) == 2
    assert not bring(service, organisation, "grants", written, keep_good=True, try_only=True).kept
    kept = bring(service, organisation, "grants", written, keep_good=True)
    assert (kept.kept, kept.added, kept.bad) == (True, 1, 5)


def test_json_lines_bring_the_same_records(service: Service, organisation: Viewer) -> None:
    """With values of their own kinds."""
    load_base(service, organisation)
    mara = {"key": "mara", "name": "Mara", "address": "m@example.org", "inside": True}
    written = lines(mara, {"key": "new", "name": "New", "inside": False}).decode()
    report = bring(service, organisation, "people", written, form="jsonl")
    assert (report.added, report.changed, report.unchanged) == (1, 0, 1)


def test_entries_written_at_the_same_time_stand_one_behind_the_other(service: Service, organisation: Viewer) -> None:
    """Whether the database puts one into its place, or several are put there."""

    def write(who: int) -> None:
        for turn in range(15):
            with service.unit(organisation) as unit:
                for part in range(1 + (turn + who) % 2):
                    unit.record("test.written", "test", None, f"{who} {turn} {part}")

    writers = [threading.Thread(target=write, args=(who,)) for who in range(4)]
    for writer in writers:
        writer.start()
    for writer in writers:
        writer.join()
    with service.unit(organisation) as unit:
        entries = list(journal.export(unit.db, organisation.organisation))
        assert len([entry for entry in entries if entry["action"] == "test.written"]) == 4 * 15 + 2 * 7 + 2 * 8
        assert chain.verify(entries, journal.head(unit.db)).sound


def cut(cluster: Cluster, database: str) -> int:
    """End every connection to a database; gives how many there were."""
    with psycopg.connect(cluster.url("postgres"), autocommit=True) as db:
        lost = "select count(pg_terminate_backend(pid, 5000)) from pg_stat_activity"
        lost += " where datname = %s and backend_type = 'client backend'"
        (count,) = db.execute(lost, [database]).fetchone() or (0,)
    return int(count)


@pytest.mark.parametrize("asks_the_driver", [False, True])
def test_a_connection_that_is_lost_in_between_is_told_as_that(
    service: Service, organisation: Viewer, cluster: Cluster, database: str, asks_the_driver: bool
) -> None:
    """Whoever asks, SQLAlchemy or the driver below it: nothing was changed, and it can be tried again."""

    def work() -> None:
        with service.unit(organisation) as unit:
            unit.record("test.written", "test", None, "lost")
            cut(cluster, database)
            if asks_the_driver:
                driver_of(unit.db).execute("select 1")
            else:
                unit.db.execute(text("select 1"))

    with pytest.raises(RegisterDown, match="went away") as told:
        work()
    assert type(told.value) is RegisterDown
    with service.unit(organisation) as unit:
        assert "test.written" not in {entry["action"] for entry in journal.export(unit.db, organisation.organisation)}


def test_a_commit_that_is_cut_off_is_not_said_to_have_changed_nothing(
    service: Service, organisation: Viewer, cluster: Cluster, database: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The connection goes as the commit is on its way."""
    real = Session.commit

    def commit(session: Session) -> None:
        cut(cluster, database)
        real(session)

    def work() -> None:
        with service.unit(organisation) as unit:
            unit.record("test.written", "test", None, "lost")
            monkeypatch.setattr(Session, "commit", commit)

    with pytest.raises(OutcomeUnknown, match="while this was being committed"):
        work()


@pytest.mark.parametrize(
    ("method", "key", "repeats"), [("POST", "k", True), ("POST", "", False), ("PATCH", "k", False)]
)
def test_only_what_is_done_once_is_asked_for_again_when_nobody_knows(
    service: Service, organisation: Viewer, monkeypatch: pytest.MonkeyPatch, method: str, key: str, repeats: bool
) -> None:
    """A client library that sends again what says when must not do anything twice."""
    client = make_app(service, "").test_client()
    body = {"address": "ada@example.org", "password": "a long password"}
    headers = {"Authorization": f"Bearer {client.post('/api/v1/tokens', json=body).get_json()['token']}"}
    made = client.post("/api/v1/people", json={"name": "Anybody"}, headers=headers).get_json()["id"]
    headers |= {"Idempotency-Key": key} if key else {}
    path = "/api/v1/people" if method == "POST" else f"/api/v1/people/{made}"
    real, seal = Session.commit, Unit.seal

    def note(unit: Unit) -> None:
        seal(unit)
        unit.db.info["sealed"] = bool(unit.entries)

    def commit(session: Session) -> None:
        if session.info.get("sealed"):
            raise psycopg.OperationalError("the connection is lost")
        real(session)

    monkeypatch.setattr(Unit, "seal", note)
    monkeypatch.setattr(Session, "commit", commit)
    answer = client.open(path, method=method, json={"name": "Somebody"}, headers=headers)
    assert (answer.status_code, answer.get_json()["type"]) == (503, "urn:openlatch:problem:outcome-unknown")
    assert ("Retry-After" in answer.headers) is repeats


def test_what_is_committed_is_not_said_to_have_failed(service: Service, organisation: Viewer) -> None:
    """Where the worker can't be woken for it, say: its rounds find what is due."""

    def fail(*_: object) -> None:
        raise RuntimeError("There is no queue.")

    with replace(service, wake=fail).unit(organisation) as unit:
        unit.record("test.written", "test", None, "kept")
        unit.wake("carry_out", revocation=UUID(int=1))
    with service.unit(organisation) as unit:
        assert "test.written" in {entry["action"] for entry in journal.export(unit.db, organisation.organisation)}


def test_connections_that_were_lost_cost_no_request(
    service: Service, organisation: Viewer, cluster: Cluster, database: str
) -> None:
    """After a restart of the server, say: what begins then begins with a new one."""
    with service.unit(organisation), service.unit(organisation), alone(service.engine, "a lock") as ours:
        assert ours
    assert cut(cluster, database) == 3
    with alone(service.engine, "a lock") as ours, service.unit(organisation) as unit:
        assert ours
        assert unit.db.scalar(select(Person.name)) == "Ada Admin"


def test_statements_stay_prepared_beside_a_lease(service: Service, organisation: Viewer) -> None:
    """Its transaction is committed: after a rollback the driver has the server forget every statement."""
    own = select(literal("said again and again"))
    prepared = text("select count(*) from pg_prepared_statements where statement like '%VARCHAR%'")
    for _ in range(8):
        with transaction(service.engine, organisation.organisation) as db:
            db.execute(own)
        with leases(service.engine, ["one"]) as taken:
            assert taken == ["one"]
    with transaction(service.engine, organisation.organisation) as db:
        assert db.scalar(prepared)


def test_a_refusal_changes_nothing_and_leaves_statements_prepared(service: Service, organisation: Viewer) -> None:
    """Whether something was written before it, which is rolled back, or not."""
    own = select(literal("said again and again"))
    prepared = text("select count(*) from pg_prepared_statements where statement like '%VARCHAR%'")

    def refused(*, writes: bool) -> None:
        with transaction(service.engine, organisation.organisation) as db:
            db.execute(own)
            row = db.scalars(select(Person)).first()
            assert row is not None
            row.job = "changed"
            if writes:
                db.flush()
            raise BadInput("No.")

    for _ in range(8):
        with pytest.raises(BadInput):
            refused(writes=False)
    with transaction(service.engine, organisation.organisation) as db:
        assert db.scalar(prepared)
    with pytest.raises(BadInput):
        refused(writes=True)
    with transaction(service.engine, organisation.organisation) as db:
        assert "changed" not in set(db.scalars(select(Person.job)))


def test_a_lease_that_was_lost_ends_quietly(cluster: Cluster, database: str, service: Service) -> None:
    """Its lock went with the connection, and what was done meanwhile is not said to have failed."""
    with leases(service.engine, ["one"]):
        assert cut(cluster, database)
    with leases(service.engine, ["one"]) as taken:
        assert taken == ["one"]


def test_a_column_that_is_not_there_changes_nothing(service: Service, organisation: Viewer) -> None:
    """Whoever has left stays so, outsiders stay outside, and nothing is emptied; a trial tells what would change."""
    whole = (
        "key,name,address,inside,standing,leaves_on,job\n"
        "mara,Mara,mara@example.org,no,left,2026-01-31,Warden\nowen,Owen,owen@example.org,yes,current,,Cook\n"
    )
    bring(service, organisation, "people", whole)
    header = "key,name,system,sensitivity,owner,purpose,kind"
    bring(service, organisation, "accounts", f"{header}\nbox,Box,Mail,3,owen,Guests write here.,mailbox\n")
    again = (("key,name\nmara,Mara L.\nowen,Owen\n", "csv"), ('{"key": "mara", "name": "Mara"}', "jsonl"))
    for written, form in again:
        assert bring(service, organisation, "people", written, form).changed == 1
    assert bring(service, organisation, "accounts", "key,name,system,sensitivity\nbox,Box,Mail,4\n").changed == 1
    with service.unit(organisation) as unit:
        mara = unit.db.scalars(select(Person).where(Person.key == "mara")).one()
        assert (mara.address, mara.inside, mara.standing, mara.job) == ("mara@example.org", False, "left", "Warden")
        assert mara.leaves_at is not None
        box = unit.db.scalars(select(Account).where(Account.key == "box")).one()
        owner = unit.db.get_one(Person, box.owner_id)
        assert (owner.key, box.purpose, box.kind, box.sensitivity) == ("owen", "Guests write here.", "mailbox", 4)
    trial = bring(service, organisation, "people", "key,name,job\nmara,Mara,\nowen,Owen,Boatman\n", try_only=True)
    assert [(one.line, one.key, one.field, one.was, one.will) for one in trial.differences] == [
        (2, "mara", "job", "Warden", ""),
        (3, "owen", "job", "Cook", "Boatman"),
    ]
    assert not trial.kept


def test_nobody_becomes_two_by_a_file(service: Service, organisation: Viewer) -> None:
    """By key, then by address: a second person with a known address is refused with who has it."""
    bring(service, organisation, "people", "key,name,address\nmara,Mara,mara@example.org\n")
    with service.unit(organisation) as unit:
        unit.db.add(
            Person(organisation_id=organisation.organisation, name="Una", address="una@example.org", inside=False)
        )
    found = bring(
        service,
        organisation,
        "people",
        "key,name,address\nm2,Mara,mara@example.org\nx,X,y@z.example\ny,Y,y@z.example\n",
    )
    assert [(error.line, error.reason) for error in found.errors] == [
        (2, "is the address of Mara, whose key is mara"),
        (4, "is the address of line 3 as well"),
    ]
    bring(service, organisation, "people", "key,name,address\nuna,Una Ray,una@example.org\n")
    with service.unit(organisation) as unit:
        una = unit.db.scalars(select(Person).where(Person.address == "una@example.org")).one()
        assert (una.key, una.name, una.inside) == ("una", "Una Ray", False)
    with pytest.raises(Conflict), service.unit(organisation) as unit:
        unit.db.add(
            Person(organisation_id=organisation.organisation, name="Two", address="una@example.org", inside=True)
        )


def test_a_header_is_as_long_as_headers_are(service: Service, organisation: Viewer) -> None:
    """One of two hundred thousand columns is refused at once."""
    with pytest.raises(BadInput, match="characters"):
        bring(service, organisation, "people", ",".join(f"c{n}" for n in range(200_000)) + "\n")
    with pytest.raises(BadInput, match="unknown") as error:
        bring(service, organisation, "people", ",".join(f"c{n}" for n in range(200)) + "\n")
    assert len(error.value.detail) < 400
