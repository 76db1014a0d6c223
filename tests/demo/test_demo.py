"""The demo organisation: big enough, complete, made up, and the same on every load."""

from __future__ import annotations

import re
from pathlib import Path

import httpx
import pytest

from openlatch.client import Client
from openlatch.core.flags import RULES
from openlatch.core.vocabulary import EndedAs, HolderKind
from openlatch.demo import loader
from openlatch.runtime.demo import Demo

DATA = Path(loader.__file__).parent / "data"


@pytest.mark.parametrize(
    ("kind", "least"), [("people", 60), ("accounts", 20), ("grants", 180), ("apps", 15), ("sessions", 60)]
)
def test_there_is_enough_of_everything(client: Client, kind: str, least: int) -> None:
    """To look like an organisation."""
    count = client.list(kind, limit=1, count=True).count
    assert count is not None
    assert count >= least


def test_every_rule_state_and_kind_of_holder_occurs(client: Client) -> None:
    """So that everything can be seen at once."""
    grants = list(client.every("grants"))
    assert {g.holder.kind for g in grants} == set(HolderKind)
    assert {"pending", "active", "suspended", "revoking", "ended"} <= {g.state for g in grants}
    assert {g.ended_as for g in grants if g.ended_as} == set(EndedAs)
    assert any(not g.recorded for g in grants)
    own = {"agency_to_members"}
    assert {f.rule for f in client.every("flags")} == {rule.key for rule in RULES} | own
    assert {"open", "accepted"} <= {f.state for f in client.every("flags")}
    rounds = list(client.every("rounds"))
    assert any(r.closed_at for r in rounds)
    assert any(not r.closed_at for r in rounds)
    assert {p.standing for p in client.every("people")} == {"current", "leaving", "left"}


def test_all_names_are_made_up() -> None:
    """Addresses only in domains and ranges that are reserved for examples (RFC 2606, RFC 5737)."""
    written = "".join(path.read_text() for path in DATA.iterdir())
    hosts = re.findall(r"(?:@|https?://)([a-z0-9.-]+)", written)
    assert len(hosts) > 60
    assert [h for h in hosts if not re.search(r"(^|\.)example(\.(com|net|org))?$", h)] == []
    addresses = re.findall(r"\b\d{1,3}(?:\.\d{1,3}){3}\b", written)
    assert [a for a in addresses if not a.startswith(("192.0.2.", "198.51.100.", "203.0.113."))] == []


def test_the_days_in_the_files_count_from_the_day_of_loading() -> None:
    """No fixed date, so that the demo never grows old."""
    for path in DATA.glob("*.csv"):
        assert re.findall(r"\b20\d\d-\d\d-\d\d", path.read_text()) == [], path.name


def test_the_files_are_found_the_same_when_they_are_brought_again(client: Client, stack: Demo) -> None:
    """The demo is what its files say: bringing people and apps a second time changes nothing."""
    for kind in ("apps", "teams"):
        report = client.bring(kind, [(DATA / f"{kind}.csv").read_bytes()])
        assert (report.kept, report.added, report.changed) == (True, 0, 0)
    assert httpx.get(f"{stack.address}/healthz").text == "ok\n"


def test_nobody_else_reads_what_the_demo_writes(stack: Demo) -> None:
    """Its logs, its mail and its secrets."""
    for name, mode in (("serve.log", 0o600), ("worker.log", 0o600), ("secrets.json", 0o600), ("mail", 0o700)):
        assert (stack.folder / name).stat().st_mode & 0o777 == mode, name
