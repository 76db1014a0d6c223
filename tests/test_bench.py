"""Every measure runs to its end. What it measures is for quiet machines, and is not looked at here."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

from bench.__main__ import MEASURES


def test_every_measure_runs_to_its_end(tmp_path: Path) -> None:
    """On a few grants, in a run of its own."""
    root = Path(__file__).parents[1]
    environment = {**os.environ, "OPENLATCH_BENCH_QUICK": "1", "PYTHONPATH": str(root), "TMPDIR": "/tmp"}
    command = [sys.executable, "-m", "bench", "--grants", "200"]
    done = subprocess.run(command, cwd=tmp_path, env=environment, capture_output=True, text=True, timeout=900)
    assert done.returncode == 0, done.stderr[-3000:]
    figures = [line for line in done.stdout.splitlines()[2:] if line and not line.startswith((" ", "20"))]
    assert len(figures) == len(MEASURES), done.stdout
