"""The program, started often: each call is a process of its own, forked from one that has imported the program.

Run as a module it takes calls as lines of JSON, and answers each with its exit code; output goes to files.
"""

from __future__ import annotations

import importlib
import json
import os
import subprocess
import sys
import tempfile
import traceback
from collections.abc import Mapping
from pathlib import Path
from typing import Any


class Program:
    """The program, imported once in an environment."""

    def __init__(self, environment: Mapping[str, str], *modules: str) -> None:
        """``modules`` are imported, too: those that commands of the service import when they are called."""
        self._started = subprocess.Popen(
            [sys.executable, "-m", "tests.cli.program", *modules],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            env=dict(environment),
        )

    def call(self, arguments: tuple[str, ...], given: str, environment: Mapping[str, str]) -> Any:
        """Run it once; what it wrote, and its exit code."""
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "in").write_text(given)
            asked = {"arguments": arguments, "environment": dict(environment), "folder": folder}
            assert self._started.stdin is not None
            assert self._started.stdout is not None
            self._started.stdin.write(json.dumps(asked) + "\n")
            self._started.stdin.flush()
            code = int(self._started.stdout.readline())
            out, err = ((Path(folder) / name).read_text() for name in ("out", "err"))
        return subprocess.CompletedProcess(arguments, code, out, err)

    def stop(self) -> None:
        """End the process that the others come from."""
        assert self._started.stdin is not None
        assert self._started.stdout is not None
        self._started.stdin.close()
        self._started.wait(timeout=10)
        self._started.stdout.close()


def _run(asked: dict[str, Any]) -> None:
    """In the child: everything that a process of its own would have."""
    os.environ.clear()
    os.environ.update(asked["environment"])
    for number, (name, flags) in enumerate(
        (("in", os.O_RDONLY), ("out", os.O_WRONLY | os.O_CREAT), ("err", os.O_WRONLY | os.O_CREAT))
    ):
        os.dup2(os.open(f"{asked['folder']}/{name}", flags, 0o600), number)
    sys.stdin, sys.stdout, sys.stderr = (os.fdopen(n, mode) for n, mode in ((0, "r"), (1, "w"), (2, "w")))
    from openlatch.cli import output
    from openlatch.cli.main import main

    for console in (output.out, output.err):
        # The width is read on import.
        console.width = int(os.environ["COLUMNS"])
    try:
        main(asked["arguments"])
    finally:
        sys.stdout.flush()
        sys.stderr.flush()


def _serve() -> None:
    from openlatch.cli import main as program

    for module in set(program._CLIENT.values()):
        importlib.import_module(f"openlatch.cli.{module}")
    for module in sys.argv[1:]:
        importlib.import_module(module)
    for line in sys.stdin:
        child = os.fork()
        if not child:
            code: object = 1
            try:
                _run(json.loads(line))
            except SystemExit as ended:
                code = ended.code
            finally:
                # An error that nobody caught is shown as Python shows it, and the child ends all the same.
                if sys.exc_info()[0] is not None:
                    traceback.print_exc()
                    sys.stderr.flush()
                os._exit(code if isinstance(code, int) else 0)
        _, status = os.waitpid(child, 0)
        sys.stdout.write(f"{os.waitstatus_to_exitcode(status)}\n")
        sys.stdout.flush()


if __name__ == "__main__":
    _serve()
