"""The program for remote hosts as one file: what the agent imports of Open Latch, as a zip that Python runs."""

from __future__ import annotations

import py_compile
import zipapp
from collections.abc import Iterator
from pathlib import Path
from tempfile import TemporaryDirectory

import openlatch

# All that the agent imports; a test runs it with nothing else.
MODULES = (
    *("errors", "json_values", "instants"),
    *("core/__init__", "core/register", "core/time_windows", "core/vocabulary"),
    *("core/exposure/__init__", "core/exposure/conditions", "core/exposure/paths", "core/exposure/rules"),
    *("core/revocations/__init__", "core/revocations/plan"),
    *("adapters/contract", "adapters/coverage", "adapters/limits"),
    *(f"adapters/unix_host/{name}" for name in ("__init__", "adapter", "agent", "certificates", "exposure", "files")),
    *(f"adapters/unix_host/{name}" for name in ("holders", "lists", "modes", "people", "rights", "rules")),
    *(f"adapters/unix_host/{name}" for name in ("sessions", "wire", "wording")),
)
_MAIN = "from openlatch.adapters.unix_host.agent import main\n\nmain()\n"


def write(target: Path) -> None:
    """Write the program; it is executable."""
    with TemporaryDirectory() as folder:
        for name, text in _files():
            path = Path(folder) / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text)
            # Besides the source: a Python of the same version need not compile it each time, another one does.
            how = py_compile.PycInvalidationMode.UNCHECKED_HASH
            py_compile.compile(str(path), f"{path}c", name, doraise=True, invalidation_mode=how)
        zipapp.create_archive(folder, target, "/usr/bin/env python3", compressed=True)
    target.chmod(0o755)


def _files() -> Iterator[tuple[str, str]]:
    source = Path(openlatch.__file__).parent
    yield "__main__.py", _MAIN
    # The package's own beginning imports what the service needs besides.
    yield "openlatch/__init__.py", f'__version__ = "{openlatch.__version__}"\n'
    yield "openlatch/adapters/__init__.py", ""
    for name in MODULES:
        yield f"openlatch/{name}.py", (source / f"{name}.py").read_text()
