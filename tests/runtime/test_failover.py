"""The primary database is lost while access is being revoked; the standby takes over."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path


def test_nothing_that_was_answered_is_lost_and_nothing_is_done_twice(folder: Path) -> None:
    """Web process and workers find the new primary by themselves, and end what was begun."""
    environment = {**os.environ, "TMPDIR": str(folder)}
    command = [sys.executable, "-m", "bench.failover", "--times", "2"]
    root = Path(__file__).parents[2]
    done = subprocess.run(command, cwd=root, env=environment, capture_output=True, text=True, timeout=400)
    assert done.returncode == 0, (done.stdout, done.stderr[-2000:])
    assert "lost: 0; doubled: 0; revoked twice: 0; not: 0" in done.stdout
