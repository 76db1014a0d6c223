"""Drift, doubts, leavers and undoing, as a user types them; what can't be is told with what to do."""

from __future__ import annotations

import subprocess
import sys

import pytest

from tests.cli.conftest import Run
from tests.cli.test_cli import found


def test_drift_and_doubts_are_listed_and_rules_are_set(run: Run) -> None:
    """With both sides of what differs; a rule that can't be read changes nothing."""
    rows = found(run("drift", "list", "--kind", "changed", "-o", "json"))
    told = {(row["holder"]["name"], row["level"], row["shown_level"]) for row in rows}
    assert ("Thea Marchetti", "Reader", "Operator") in told
    assert "Owen Tarrick on Rescue feed" in run("drift", "list", "--kind", "missing").stdout
    assert "Gwil Tresco (by uid)" in run("drift", "doubts").stdout
    wrong = run("system", "match", "Camera host", "--by", "uid")
    assert (wrong.returncode, "employee=sure" in wrong.stderr) == (2, True)
    assert "no mark 'shoe'" in run("system", "match", "Camera host", "--by", "shoe=ask").stderr
    assert "uid (ask)" in run("system", "match", "Camera host", "--by", "uid=ask").stdout
    assert "usual marks" in run("system", "match", "Camera host").stdout
    assert "every 10 minutes" in run("system", "schedule", "Camera host", "--every", "10").stdout
    assert run("drift", "decide", "00000000-0000-0000-0000-000000000000").returncode == 2


def test_a_leaver_is_previewed_and_needs_successors(run: Run) -> None:
    """What they own can't be left to nobody; nothing has happened then."""
    seen = found(run("leaver", "preview", "Tobias Renn", "-o", "json"))
    owned = [one["account"]["name"] for one in seen["accounts"] if one["owned"]]
    shown = run("leaver", "preview", "Tobias Renn").stdout
    assert all(f"{name}: Tobias Renn owns it; it needs a successor" in shown for name in owned)
    nobody = [word for name in owned for word in ("--successor", f"{name}=")]
    assert nobody
    started = run(
        "leaver", "start", "Tobias Renn", "--reason", "Test.", "--yes", *nobody, given="walk the long ridge\n\n"
    )
    assert (started.returncode, "Nobody would answer for" in started.stderr) == (1, True)
    assert found(run("leaver", "show", "Tobias Renn", "-o", "json"))["begun_at"] is None
    assert "The leaver process for Tobias Renn has not been started" in run("leaver", "report", "Tobias Renn").stderr
    assert run("leaver", "preview", "Tobias Renn", "--successor", "x").returncode == 2


def test_what_a_revocation_took_by_hand_is_undone(run: Run) -> None:
    """Shown before, asked about, and said."""
    (row,) = found(run("revocation", "list", "-f", 'title co "Old Exporter"', "-o", "json"))
    shown = run("revocation", "undo", row["id"], "--preview", "--reason", "x").stdout
    assert "is recorded again; where" in shown
    left = run("revocation", "undo", row["id"], "--reason", "It was needed.", given="n\n")
    assert (left.returncode, "Nothing was done" in left.stderr) == (5, True)


@pytest.mark.parametrize(
    ("kind", "settings", "told"),
    [
        ("directory", {"port": "abc"}, "has to be a whole number"),
        ("host", {"root": "/", "time_zone": "Nowhere/Else"}, "There is no time zone"),
        ("cloud", {"address": "http://[::1"}, "can't be called"),
    ],
)
def test_settings_that_can_not_be_are_told(kind: str, settings: dict[str, str], told: str) -> None:
    """Before anything is tried or kept."""
    words = [word for name, value in settings.items() for word in ("--set", f"{name}={value}")]
    command = [sys.executable, "-m", "openlatch"]
    done = subprocess.run(
        [*command, "connect", "real", "X", "--kind", kind, *words, "--password", "x"],
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode in (1, 2)
    assert told in done.stderr
    assert "Traceback" not in done.stderr
