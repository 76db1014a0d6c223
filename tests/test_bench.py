"""Every measure runs to its end. What it measures is for quiet machines, and is not looked at here."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

from bench.__main__ import MEASURES


def run(folder: Path, *words: str) -> str:
    """What a program of the bench prints."""
    root = Path(__file__).parents[1]
    environment = {**os.environ, "OPENLATCH_BENCH_QUICK": "1", "PYTHONPATH": str(root), "TMPDIR": "/tmp"}
    command = [sys.executable, "-m", *words]
    done = subprocess.run(command, cwd=folder, env=environment, capture_output=True, text=True, timeout=900)
    assert done.returncode == 0, done.stderr[-3000:]
    return done.stdout


def test_every_measure_runs_to_its_end(tmp_path: Path) -> None:
    """On a few grants, in a run of its own."""
    printed = run(tmp_path, "bench", "--grants", "200")
    figures = [line for line in printed.splitlines()[2:] if line and not line.startswith((" ", "20"))]
    assert len(figures) == len(MEASURES), printed


def test_what_grows_is_measured_for_each_size(tmp_path: Path) -> None:
    """Down to the archive."""
    printed = run(tmp_path, "bench.slopes", "--grants", "200,400")
    assert "suspending one grant" in printed
    assert "reading all of it from the archive" in printed
