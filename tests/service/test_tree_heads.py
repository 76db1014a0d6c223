"""Signed heads of the journal: kept in a file, mailed, time-stamped, and what they find."""

from __future__ import annotations

import subprocess
from dataclasses import replace
from pathlib import Path

import orjson
import psycopg
from sqlalchemy import select

from openlatch.core.journal import chain
from openlatch.core.journal import tree_heads as core
from openlatch.processes import free_port
from openlatch.runtime.cluster import Cluster
from openlatch.service.accounts import settings
from openlatch.service.journal import signed_heads
from openlatch.store import journal
from openlatch.store.tables import TreeHead
from openlatch.test_systems.timestamps import TimestampServer
from tests.service.conftest import Small, mailed


def verified(small: Small, heads: list[core.Head]) -> chain.Verdict:
    with small.service.unit(small.itself) as unit:
        return chain.verify(journal.export(unit.db, small.itself.organisation), heads=core.Watch(heads))


def test_heads_go_into_a_file_at_intervals_and_name_the_first_altered_entry(small: Small, tmp_path: Path) -> None:
    """Each only once; the file finds what the database's owner sealed anew."""
    service = replace(small.service, tree_heads_file=tmp_path / "heads.jsonl")
    signed_heads.keep(service, small.itself)
    signed_heads.keep(service, small.itself)
    with small.acting_as_administrator("ines") as unit:
        settings.change(unit, 48, [], [])
    signed_heads.keep(service, small.itself)
    small.clock.forward(hours=2)
    signed_heads.keep(service, small.itself)
    heads = core.read((tmp_path / "heads.jsonl").read_bytes())
    assert [head.is_signed for head in heads] == [True, True]
    assert (tmp_path / "heads.jsonl").stat().st_mode & 0o777 == 0o600
    assert verified(small, heads).vouched == heads[-1].size == heads[0].size + 1
    with small.service.unit(small.itself) as unit:
        rows = list(journal.export(unit.db, small.itself.organisation))
        assert unit.db.scalars(select(TreeHead.hashes)).all() == [None, None]
    forged = list(chain.chain([{**r, "facts": {"x": 1}} if r["position"] == 5 else r for r in rows], 0, chain.START))
    assert [f.position for f in chain.verify(forged, heads=core.Watch(heads)).faults] == [5]
    assert not chain.verify(rows[:-1], heads=core.Watch(heads)).sound


def test_a_file_that_can_not_be_written_holds_up_nothing_and_gets_all_heads_later(small: Small, tmp_path: Path) -> None:
    """The mail goes out all the same."""
    place = tmp_path / "away" / "heads.jsonl"
    service = replace(small.service, tree_heads_file=place)
    with small.acting_as_administrator("ines") as unit:
        settings.change(unit, 48, [], [], ["audit@example.net"])
    signed_heads.keep(service, small.itself)
    with small.service.unit(small.itself) as unit:
        row = signed_heads.last(unit)
        assert row is not None
        assert (row.filed_at, row.mailed_at is not None) == (None, True)
    place.parent.mkdir()
    signed_heads.keep(service, small.itself)
    (head,) = core.read(place.read_bytes())
    assert (head.size, len(head.hashes)) == (row.size, row.size)


def test_an_end_that_was_cut_off_in_the_database_is_found_by_its_own_head(
    small: Small, cluster: Cluster, database: str
) -> None:
    """By the journal's head, and by the signed one."""
    signed_heads.keep(small.service, small.itself)
    with psycopg.connect(cluster.url(database), autocommit=True) as db:
        db.execute("alter table journal disable trigger all")
        db.execute("delete from journal where position > (select max(position) - 3 from journal)")
    with small.service.unit(small.itself) as unit:
        rows = list(journal.export(unit.db, small.itself.organisation))
        assert chain.verify(rows).sound
        assert not chain.verify(rows, journal.head(unit.db)).sound
        verdict = chain.verify(rows, heads=core.Watch(signed_heads.every(unit)))
    assert any("cut off" in fault.what for fault in verdict.faults)


def test_auditors_get_the_head_by_mail_once_a_day(small: Small) -> None:
    """As a line that they can keep and verify with."""
    with small.acting_as_administrator("ines") as unit:
        settings.change(unit, 48, [], [], ["audit@example.net"])
    for hours in (0, 2, 2, 22):
        small.clock.forward(hours=hours)
        with small.acting_as_administrator("ines") as unit:
            settings.change(unit, 48, [], [])
        signed_heads.keep(small.service, small.itself)
    letters = [text for to, _, text in mailed(small.service, small.itself.organisation) if to == "audit@example.net"]
    assert len(letters) == 2
    (line,) = [part for part in orjson.loads(letters[0])["paragraphs"] if part.startswith("{")]
    assert core.read(line.encode())[0].is_signed


def test_heads_are_stamped_by_an_authority_and_wait_for_one_that_is_away(small: Small, tmp_path: Path) -> None:
    """OpenSSL verifies the stamp, which nobody here wrote."""
    server = TimestampServer(tmp_path / "authority", free_port())
    service = replace(small.service, timestamp_authority=server.address)
    signed_heads.keep(service, small.itself)
    with small.service.unit(small.itself) as unit:
        assert unit.db.scalars(select(TreeHead.stamp)).one() is None
    server.start()
    try:
        signed_heads.keep(service, small.itself)
    finally:
        server.stop()
    with small.service.unit(small.itself) as unit:
        row = unit.db.scalars(select(TreeHead)).one()
    assert row.stamp is not None
    (tmp_path / "stamp").write_bytes(row.stamp)
    (tmp_path / "head").write_bytes(orjson.dumps(row.head, option=orjson.OPT_SORT_KEYS))
    command = ["openssl", "ts", "-verify", "-in", str(tmp_path / "stamp"), "-data", str(tmp_path / "head")]
    done = subprocess.run([*command, "-CAfile", str(server.certificate)], capture_output=True, text=True, check=False)
    assert "Verification: OK" in done.stdout, done.stderr
