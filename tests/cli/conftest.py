"""The command line as a user types it: a program of its own, talking to the running service."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import cast

import pytest

from openlatch.runtime.demo import Demo
from tests.cli.program import Program

Run = Callable[..., subprocess.CompletedProcess[str]]


@pytest.fixture(scope="module")
def program(stack: Demo, tokens: dict[str, str]) -> Iterator[Program]:
    """The program, imported once."""
    started = Program({**os.environ, "COLUMNS": "160"})
    yield started
    started.stop()


@pytest.fixture
def run(program: Program, stack: Demo, tokens: dict[str, str], tmp_path: Path) -> Run:
    """Runs the program as the administrator."""
    environment = {
        **os.environ,
        "OPENLATCH_URL": stack.address,
        "OPENLATCH_TOKEN": tokens["administrator"],
        "XDG_CONFIG_HOME": str(tmp_path),
        "COLUMNS": "160",
        "OPENLATCH_LANGUAGE": "en",
    }

    def go(*arguments: str, given: str = "", **changed: str) -> subprocess.CompletedProcess[str]:
        kept = {k: v for k, v in {**environment, **changed}.items() if v}
        return cast(subprocess.CompletedProcess[str], program.call(arguments, given, kept))

    return go
