"""The archive: what is older than the database keeps is answered all the same, and nothing of it is lost or made up."""

from __future__ import annotations

import os
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import closing
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from typing import Any

import psycopg
import pytest
from dateutil.relativedelta import relativedelta
from psycopg.errors import InsufficientPrivilege
from sqlalchemy import Engine, create_engine, func, select, text, update

from openlatch import schemas
from openlatch.core.ids import new_id
from openlatch.core.journal import chain, merkle_tree, tree_heads
from openlatch.core.journal.erasure import pseudonym
from openlatch.errors import ArchiveDown, NotAllowed
from openlatch.runtime.cluster import Cluster
from openlatch.service import doctor
from openlatch.service.journal import archive, entries, events, signed_heads
from openlatch.service.people import erasure, held_data
from openlatch.service.reviews import open_round
from openlatch.service.trends import page
from openlatch.store import partitions, revisions
from openlatch.store.access.as_of import Moment
from openlatch.store.archive import Archive, Which
from openlatch.store.tables import ArchivedPart, ArchiveErasure, Grant, JournalEntry, Person, Webhook
from tests.service.conftest import Small
from tests.service.test_past import bring, everything_then, histories, real, told_then  # noqa: F401  a fixture

# By then all that the tests' registers hold is in quarters that are over.
LATER = timedelta(days=400)


@pytest.fixture
def owner(cluster: Cluster, database: str) -> Iterator[Engine]:
    """As the database's owner."""
    made = create_engine(cluster.url(database).replace("postgresql:", "postgresql+psycopg:"))
    yield made
    made.dispose()


@pytest.fixture
def archived(small: Small, tmp_path: Path) -> Small:
    """The small register a year later, with an archive and a signed head."""
    with small.service.unit(small.itself) as unit:
        unit.db.execute(update(Person).where(Person.key == "edda").values(second_factor=True))
    small.clock.forward(days=LATER.days)
    found = replace(small, service=replace(small.service, archive=Archive(tmp_path / "archive")))
    with found.service.unit(found.itself) as unit:
        signed_heads.sign(unit)
    return found


def moment(at: datetime) -> Moment:
    return Moment(at, at)


def moved(small: Small, owner: Engine) -> list[archive.Moved]:
    return list(archive.move(small.service, owner, small.service.clock()))


def whole(small: Small) -> list[Any]:
    with small.service.unit(small.itself) as unit:
        return list(entries.every(small.service, unit.db, small.itself.organisation))


def in_database(owner: Engine, table: str) -> int:
    with owner.connect() as connection:
        return connection.scalar(text(f"select count(*) from {table}")) or 0


def test_everything_that_was_answered_is_answered_from_the_archive(archived: Small, owner: Engine) -> None:
    """The journal, its events and proofs, what is held about somebody, and figures; afterwards it goes on."""
    small, mara = archived, archived.person("mara")
    query = schemas.TrendsQuery(since=date(2026, 2, 16), until=date(2026, 3, 15))

    def answers(small: Small) -> list[object]:
        with small.service.unit(small.itself) as unit:
            head = signed_heads.last(unit)
            assert head is not None
            hashes = list(entries.hashes(small.service, unit.db, head.size))
            proof = signed_heads.proof_for(unit, 3)
            path = [bytes.fromhex(one) for one in proof["inclusion"]]
            root = bytes.fromhex(proof["head"]["root"])
            assert merkle_tree.is_included(hashes[2], 2, head.size, path, root)
            held = held_data.of_person(unit, mara).model_dump()["journal"]
            unit.entries.clear()
            told = events.after(small.service, unit.db, small.itself.organisation, 2, 7)
            return [hashes, proof, held, told, page.page(unit, query)]

    before, journal = answers(small), whole(small)
    done = moved(small, owner)
    assert [(one.rows > 0, one.why_not) for one in done if one.rows] == [(True, ()), (True, ())]
    # Two entries of the archive itself, one of each file.
    assert in_database(owner, "journal") == 2
    assert in_database(owner, "versions") == 0
    assert answers(small) == before
    with small.service.unit(small.itself) as unit:
        unit.record("thing.done", "thing", None, "Later")
    after = whole(small)
    assert after[: len(journal)] == journal
    assert [entry["action"] for entry in after[len(journal) :]] == ["archive.written", "archive.written", "thing.done"]
    with small.service.unit(small.itself) as unit:
        found = chain.verify(after, heads=tree_heads.Watch(signed_heads.every(unit)))
        assert (found.sound, found.vouched) == (True, len(journal))
        listed = archive.listed(unit).parts
        about = archive.listed_entries(unit, schemas.ListArchived(about=mara)).entries
    assert [(part.kind, part.first, part.last, part.fault) for part in listed] == [
        ("journal", 1, len(journal), ""),
        ("versions", None, None, ""),
    ]
    digests = {entry["facts"]["digest"] for entry in after if entry["action"] == "archive.written"}
    assert digests == {part.digest for part in listed}
    assert [one.position for one in about] == [e["position"] for e in journal if e["subject"]["id"] == str(mara)] != []
    # Moving again finds the next ones only.
    with small.service.unit(small.itself) as unit:
        signed_heads.sign(unit)
    moved(small, owner)
    assert whole(small)[: len(after)] == after
    with pytest.raises(NotAllowed), small.acting("owen") as unit:
        archive.listed(unit)


def test_who_could_what_is_answered_from_the_archive_as_it_was_from_the_database(
    real: Small,  # noqa: F811
    owner: Engine,
    tmp_path: Path,
) -> None:
    """After any history, about each instant, believed then and now; also once more has happened."""
    small = replace(real, service=replace(real.service, archive=Archive(tmp_path)))
    with small.service.unit(small.itself) as unit:
        bring(unit, "grants", "account,holder_kind,holder,level,given_by\nrota,team,wardens,read,ines\n")
    kept = histories(small, 3)
    with small.service.unit(small.itself) as unit:
        # Of those who were in the team, the archive alone is to know.
        unit.db.execute(text("delete from memberships"))
    with small.service.unit(small.itself) as unit:
        signed_heads.sign(unit)
    moved(replace(small, service=replace(small.service, clock=lambda: datetime.now(UTC) + LATER)), owner)
    assert in_database(owner, "versions") == 0
    told_then(small, kept)
    kept += histories(small, 4)
    told_then(small, kept)
    # One without the archive does not take what it does not see for nothing.
    with pytest.raises(ArchiveDown, match="does not know where that is"), real.service.unit(real.itself) as unit:
        everything_then(unit, moment(kept[0][0]))


@pytest.mark.parametrize("case", ["head", "receiver", "review", "altered", "other head"])
def test_what_can_not_be_moved_yet_stays_and_it_says_why(archived: Small, owner: Engine, case: str) -> None:
    """Nothing is dropped, and no file is left that counts."""
    small, words = archived, "No signed tree head"
    with small.service.unit(small.itself) as unit:
        if case == "receiver":
            words = "The receiver Desk was not told"
            made = {"actions": [], "secret": b"", "position": 1, "name": "Desk", "url": "https://desk.example.org"}
            unit.db.add(Webhook(id=new_id(), organisation_id=small.itself.organisation, **made))
        elif case == "review":
            words = "The review “Spring” has not ended. Close it."
            open_round.open_round(unit, open_round.Review("Spring", 'holder.name eq "Mara"'))
            unit.db.flush()
    with owner.begin() as connection:
        if case == "head":
            connection.execute(text("delete from tree_heads"))
        elif case == "review":
            connection.execute(text("update rounds set opened_at = '2026-03-12'"))
        elif case == "altered":
            words = "Entry 3: altered"
            connection.execute(text("set session_replication_role = replica"))
            connection.execute(text("update journal set action = 'other' where position = 3"))
        elif case == "other head":
            words = "vouches for other entries"
            connection.execute(
                text("update tree_heads set head = jsonb_set(head, '{root}', to_jsonb(repeat('0', 64)))")
            )
    if case == "review":
        with small.service.unit(small.itself) as unit:
            signed_heads.sign(unit)
    count = in_database(owner, "journal")
    first = next(one for one in moved(small, owner) if one.why_not)
    assert first.name.startswith("journal")
    assert words in first.why_not[0]
    # What the versions wrote is the only thing that was added.
    assert in_database(owner, "journal") == count + 1
    folder = small.service.archive.folder
    assert folder is not None
    assert [path.name[:8] for path in folder.glob("*/*")] == ["versions"]


@pytest.mark.parametrize("case", ["gone", "other", "cut off"])
def test_a_file_that_is_missing_or_another_is_never_taken_for_nothing(
    archived: Small, owner: Engine, case: str
) -> None:
    """Answers that need it are refused; those that do not are given; the doctor names it."""
    small = archived
    moved(small, owner)
    folder = small.service.archive.folder
    assert folder is not None
    for path in folder.glob("*/*.parquet"):
        content = path.read_bytes()
        if case == "gone":
            path.unlink()
        else:
            path.write_bytes(
                content[:40] + bytes([content[40] ^ 1]) + content[41:] if case == "other" else content[:-9]
            )
    with pytest.raises(ArchiveDown, match="journal-until"):
        whole(small)
    # An export is refused before it begins.
    with pytest.raises(ArchiveDown, match="journal-until"), small.service.unit(small.itself) as unit:
        entries.require_archive(small.service, unit.db)
    with small.service.unit(small.itself) as unit:
        past = moment(unit.now - LATER)
        with pytest.raises(ArchiveDown, match="versions-until"):
            everything_then(unit, past)
        assert everything_then(unit, moment(unit.now - timedelta(days=1)))
        assert len(list(entries.every(small.service, unit.db, small.itself.organisation, Which(after=10**6)))) == 0
        assert [bool(part.fault) for part in archive.listed(unit).parts] == [True, True]
    checks = {check.what: check for check in doctor.examine(small.service)}
    assert len(checks["archive"].wrong) == 2
    assert any("can't be read" in words or "is not what was written" in words for words in checks["journal"].wrong)


def test_who_is_erased_is_named_in_no_file_and_the_journal_still_holds(archived: Small, owner: Engine) -> None:
    """By the worker, once; the files before are gone. A preview asks for nothing."""
    small, edda = archived, archived.person("edda")
    with small.acting_as_administrator("ines") as unit:
        unit.record("thing.done", "thing", None, "A talk with Edda", told="by edda@example.org")
        unit.db.execute(update(Grant).where(Grant.person_id == edda).values(state="ended", ended_as="revoked"))
    with small.service.unit(small.itself) as unit:
        signed_heads.sign(unit)
    moved(small, owner)
    before = whole(small)
    with small.acting_as_administrator("ines") as unit:
        erasure.preview(unit, edda)
        assert unit.db.scalar(select(func.count(ArchiveErasure.id))) == 0
        assert "The archive: the worker writes its 2 files anew without their name." in erasure.erase(unit, edda).kept
    assert any("Edda" in str(entry) for entry in whole(small))
    assert archive.erase(small.service, small.itself) == 2
    assert archive.erase(small.service, small.itself) == 0
    after = whole(small)
    assert "Edda" not in str(after)
    assert "edda@" not in str(after)
    assert [entry["hash"] for entry in after[: len(before)]] == [entry["hash"] for entry in before]
    with small.service.unit(small.itself) as unit:
        assert chain.verify(after, heads=tree_heads.Watch(signed_heads.every(unit))).faults == ()
        parts = unit.db.scalars(select(ArchivedPart)).all()
        folder = small.service.archive.folder
        assert folder is not None
        assert {str(path.relative_to(folder)) for path in folder.glob("*/*")} == {part.file for part in parts}
        versions = [row for part in parts if part.kind == "versions" for row in _versions(small, part)]
    assert versions
    assert not any("Edda" in str(row) for row in versions)
    talk = next(entry for entry in after if entry["action"] == "thing.done")
    assert talk["subject"]["name"] == f"A talk with {pseudonym(edda)}"


def _versions(small: Small, part: ArchivedPart) -> list[Any]:
    from openlatch.store import archive as files

    return list(files.versions_in(small.service.archive.path_of(part)))


def test_breaking_off_between_any_two_steps_loses_and_doubles_nothing(
    archived: Small, owner: Engine, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Before the file counts, and before the partition is dropped; the next time goes on."""
    small, journal = archived, whole(archived)

    def broken(*_: object) -> str:
        raise RuntimeError("Broken off.")

    with monkeypatch.context() as patched:
        patched.setattr(archive, "_record", broken)
        with pytest.raises(RuntimeError):
            moved(small, owner)
    assert whole(small) == journal
    with monkeypatch.context() as patched:
        patched.setattr(partitions, "drop", broken)
        with pytest.raises(RuntimeError):
            moved(small, owner)
    # The file counts already, and the partition is still there.
    assert whole(small)[: len(journal)] == journal
    assert [one["position"] for one in whole(small)] == list(range(1, len(journal) + 2))
    assert not any(one.why_not for one in moved(small, owner))
    assert whole(small)[: len(journal)] == journal
    folder = small.service.archive.folder
    assert folder is not None
    # What was left of the first attempt goes once nobody can be writing it.
    left = list(folder.glob("*/*"))
    for path in left:
        os.utime(path, (0, time.time() - 90_000))
    moved(small, owner)
    assert (len(left), len(list(folder.glob("*/*")))) == (3, 2)


def test_whoever_is_reading_holds_up_the_dropping_and_misses_nothing(
    archived: Small, owner: Engine, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A reader that has looked into the archive already sees everything once; dropping is put off, and says so."""
    monkeypatch.setattr(partitions, "LOCK_SECONDS", 1)
    small, journal, export = archived, whole(archived), entries.journal.export
    done: dict[str, tuple[str, ...]] = {}

    def moved_meanwhile(*wanted: Any) -> Iterator[Any]:
        monkeypatch.setattr(entries.journal, "export", export)
        done.update((one.name, one.why_not) for one in moved(small, owner))
        return export(*wanted)

    monkeypatch.setattr(entries.journal, "export", moved_meanwhile)
    assert whole(small)[: len(journal)] == journal
    assert done["journal_before"] == done["new partitions"] == ("The table journal was in use for 1 s. Try again.",)
    assert not any(one.why_not for one in moved(small, owner))


def test_nothing_is_moved_while_an_older_program_would_miss_it(archived: Small, owner: Engine, app_url: str) -> None:
    """And one that starts later is told that the database is not for it."""
    before = in_database(owner, "journal")
    with closing(psycopg.connect(app_url, application_name="openlatch 0046")):
        (done,) = moved(archived, owner)
    assert "A program of an older version uses the database" in done.why_not[0]
    assert in_database(owner, "journal") == before
    moved(archived, owner)
    with owner.connect() as connection:
        comment = connection.execute(text(revisions.STATE)).one()[1]
    assert (revisions.oldest(comment), in_database(owner, "journal") < before) == ("0047", True)


def test_two_who_move_at_once_write_each_part_once(archived: Small, owner: Engine) -> None:
    """The second is told so."""
    small, journal = archived, whole(archived)
    done: list[archive.Moved] = []

    def move() -> None:
        done.extend(moved(small, owner))

    both = [threading.Thread(target=move) for _ in range(2)]
    for one in both:
        one.start()
    for one in both:
        one.join()
    assert whole(small)[: len(journal)] == journal
    with small.service.unit(small.itself) as unit:
        assert sorted(unit.db.scalars(select(ArchivedPart.kind))) == ["journal", "versions"]
    assert {why for one in done for why in one.why_not} <= {"Somebody else is moving into it."}


def test_what_came_for_a_time_without_a_partition_gets_into_its_own(
    archived: Small, owner: Engine, app_url: str
) -> None:
    """From the default one, which nobody can reach either."""
    small = archived
    small.clock.forward(days=1000)
    with small.service.unit(small.itself) as unit:
        unit.record("thing.done", "thing", None, "Far ahead")
    assert in_database(owner, "journal_default") == 1
    journal = whole(small)
    with owner.begin() as connection:
        made = partitions.make(connection, small.clock.now)
        names = partitions.names(connection)
        ends = [one.until for one in partitions.of_table(connection, "journal")]
    assert f"journal_{small.clock.now.year}_q{(small.clock.now.month + 2) // 3}" in made
    assert ends[-1] >= small.clock.now + relativedelta(months=6)
    assert (in_database(owner, "journal_default"), whole(small)) == (0, journal)
    with closing(psycopg.connect(app_url, autocommit=True)) as db:
        for name in names:
            with pytest.raises(InsufficientPrivilege):
                db.execute(f"select * from {name}")  # type: ignore[call-overload]
    with (
        pytest.raises(psycopg.Error, match="only be added to"),
        psycopg.connect(owner.url.render_as_string(False).replace("+psycopg", "")) as db,
    ):
        db.execute(f"delete from {made[0]}")  # type: ignore[call-overload]


def test_the_command_moves_and_says_what_it_did(
    archived: Small, owner: Engine, cluster: Cluster, database: str, app_url: str
) -> None:
    """With the configuration of the worker, as the owner; exit code 4 while something has to stay."""
    small = archived
    settings = {
        "OPENLATCH_DATABASE_URL": app_url,
        "OPENLATCH_OWNER_DATABASE_URL": cluster.url(database),
        "OPENLATCH_SECRET_KEY": "x" * 43 + "=",
    }

    def run(*options: str, **more: str) -> tuple[int, str]:
        done = subprocess.run(
            [sys.executable, "-m", "openlatch", "archive", *options],
            env={"PATH": "/usr/bin:/bin", **settings, **more},
            capture_output=True,
            text=True,
            check=False,
        )
        return done.returncode, done.stdout + done.stderr

    folder = {"OPENLATCH_ARCHIVE_FOLDER": str(small.service.archive.folder)}
    taken = Path(folder["OPENLATCH_ARCHIVE_FOLDER"])
    assert run()[0] == 1
    assert "archive_folder" in run()[1]
    assert run(**folder) == (0, "Nothing ended more than 730 days ago.\n")
    with owner.begin() as connection:
        connection.execute(text("delete from tree_heads"))
    code, told = run("--keep-days", "0", **folder)
    assert (code, "journal_before stays:\n  Test: No signed tree head" in told) == (4, True)
    with small.service.unit(small.itself) as unit:
        signed_heads.sign(unit)
    taken.write_text("A file, where the folder should be.")
    code, told = run("--keep-days", "0", **folder)
    assert (code, "can't be written:" in " ".join(told.split()), "Look whether the folder is there" in told) == (
        1,
        True,
        True,
    )
    taken.unlink()
    code, told = run("--keep-days", "0", **folder)
    assert (code, "journal_before is in the archive: " in told) == (0, True)
    with small.service.unit(small.itself) as unit:
        assert unit.db.scalars(select(JournalEntry.action)).all() == ["archive.written"]


def test_entries_whose_order_is_not_that_of_their_times_are_each_once_in_the_archive(
    small: Small, owner: Engine, tmp_path: Path
) -> None:
    """As where one change begins before the end of a quarter, and is committed after another that began later."""
    small = replace(small, service=replace(small.service, archive=Archive(tmp_path)))
    with owner.connect() as connection:
        turn = partitions.of_table(connection, "journal")[0].until
    for hours, what in ((-3, "First"), (2, "Third, written second"), (-1, "Second, written third"), (3, "Fourth")):
        small.clock.now = turn + timedelta(hours=hours)
        with small.service.unit(small.itself) as unit:
            unit.record("thing.done", "thing", None, what)
    journal = whole(small)
    for until in (turn, turn + relativedelta(months=3)):
        small.clock.now = until + timedelta(days=5)
        with small.service.unit(small.itself) as unit:
            signed_heads.sign(unit)
        assert not any(one.why_not for one in moved(small, owner))
        assert whole(small)[: len(journal)] == journal
    with small.service.unit(small.itself) as unit:
        spans = [(part.first, part.last) for part in archive.listed(unit).parts if part.kind == "journal"]
    assert spans == [(1, len(journal) - 1), (len(journal), spans[1][1])]
    assert [entry["position"] for entry in whole(small)] == list(range(1, len(whole(small)) + 1))
