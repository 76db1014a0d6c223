"""How many small changes of the code the tests notice: ``python -m bench.mutations core --count 100``.

Changes are chosen at random among all that the operators of cosmic-ray give for the modules of a layer. Each is made in
a copy of the project and tried with the tests that run the changed line, the quickest first; what no test runs counts
as unnoticed. Annotations, docstrings and type aliases are left alone, since no test can tell.
"""

from __future__ import annotations

import argparse
import ast
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import coverage
from cosmic_ray.ast import ast_nodes, get_ast
from cosmic_ray.mutating import mutate_code
from cosmic_ray.plugins import get_operator, operator_names
from rich.console import Console

ROOT = Path(__file__).parents[1]
SECONDS = 240
# More tests than these, the quickest ones of a line, are not tried.
MOST_TESTS = 40
# Operators that have to be told a variable.
PARAMETERISED = ("core/VariableReplacer", "core/VariableInserter")
out = Console(soft_wrap=True)


@dataclass(frozen=True, slots=True)
class Mutation:
    """One change: the module, the operator and which of its occurrences, and the lines that it concerns."""

    module: str
    operator: str
    occurrence: int
    first: int
    last: int


def every(layer: str) -> Iterator[Mutation]:
    """All changes of a layer's modules."""
    for path in sorted((ROOT / "src" / "openlatch" / layer).rglob("*.py")):
        source = path.read_text()
        told = _untestable(source)
        tree = get_ast(source)
        for name in operator_names():
            if name in PARAMETERISED:
                continue
            operator = get_operator(name)()
            places = [place for node in ast_nodes(tree) for place in operator.mutation_positions(node)]
            for occurrence, ((first, _), (last, _)) in enumerate(places):
                if not any(line in told for line in range(first, last + 1)):
                    yield Mutation(str(path.relative_to(ROOT)), name, occurrence, first, last)


def _untestable(source: str) -> set[int]:
    """The lines of annotations, docstrings, imports and decorators' keywords such as ``slots``."""
    lines: set[int] = set()
    for node in ast.walk(ast.parse(source)):
        parts: list[ast.AST | None] = []
        if isinstance(node, (ast.Import, ast.ImportFrom)):
            parts = [node]
        elif isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef)):
            of = node.args
            parts = [node.returns, *(each.annotation for each in (*of.posonlyargs, *of.args, *of.kwonlyargs))]
            parts += node.decorator_list
        elif isinstance(node, ast.ClassDef):
            parts = list(node.decorator_list)
        elif isinstance(node, ast.AnnAssign):
            parts = [node.annotation]
        elif isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant):
            parts = [node]
        for part in parts:
            if part is not None:
                lines |= set(range(part.lineno, (part.end_lineno or part.lineno) + 1))  # type: ignore[attr-defined]
    return lines


def covering(layer: str, folder: Path) -> dict[tuple[str, int], list[str]]:
    """The tests that run each line, the quickest first."""
    data, report = folder / "coverage", folder / "durations.json"
    plugin = folder / "durations.py"
    plugin.write_text(
        "import json, pathlib\nheld = {}\n"
        "def pytest_runtest_logreport(report):\n"
        "    held[report.nodeid] = held.get(report.nodeid, 0) + report.duration\n"
        f"def pytest_sessionfinish(session):\n    pathlib.Path({str(report)!r}).write_text(json.dumps(held))\n"
    )
    rc = folder / "coveragerc"
    rc.write_text("[run]\ndynamic_context = test_function\nsource_pkgs = openlatch\n")
    command = [sys.executable, "-m", "coverage", "run", f"--rcfile={rc}", f"--data-file={data}", "-m", "pytest", "-q"]
    environment = {**os.environ, "HYPOTHESIS_PROFILE": "first", "PYTHONPATH": f"{folder}{os.pathsep}{ROOT / 'src'}"}
    subprocess.run(
        [*command, "-p", "durations", "-p", "no:randomly", f"tests/{layer}"], cwd=ROOT, env=environment, check=True
    )
    took: dict[str, float] = json.loads(report.read_text())
    of_function: dict[str, list[str]] = {}
    for node in took:
        module, _, rest = node.partition("::")
        of_function.setdefault(f"{module[:-3].replace('/', '.')}.{rest.partition('[')[0]}", []).append(node)
    found: dict[tuple[str, int], list[str]] = {}
    held = coverage.CoverageData(str(data))
    held.read()
    for file in held.measured_files():
        for line, contexts in held.contexts_by_lineno(file).items():
            nodes = {node for context in contexts for node in of_function.get(context, ())}
            found[str(Path(file).relative_to(ROOT)), line] = sorted(nodes, key=lambda node: took[node])
    return found


def nearby(lines: Mapping[tuple[str, int], Sequence[str]], module: str) -> list[str]:
    """For a line that runs when its module is imported, such as a rule: the tests that run most of what is in the
    module, or else in its folder, or the one above.
    """
    for place in (module, *(str(folder) for folder in list(Path(module).parents)[:2])):
        counted = Counter(
            test
            for (file, _), tests in lines.items()
            if file == place or file.startswith(f"{place}/")
            for test in tests
        )
        if counted:
            return [test for test, _ in counted.most_common(MOST_TESTS)]
    return []


def tried(mutation: Mutation, tests: Sequence[str], copy: Path) -> str:
    """What becomes of a change: noticed, unnoticed, or not run by any test."""
    if not tests:
        return "not run"
    path = copy / mutation.module
    source = path.read_text()
    changed = mutate_code(source, get_operator(mutation.operator)(), mutation.occurrence)
    if changed is None or changed == source:
        return "no change"
    path.write_text(changed)
    environment = {**os.environ, "HYPOTHESIS_PROFILE": "first", "PYTHONPATH": str(copy / "src")}
    command = [sys.executable, "-m", "pytest", "-q", "-x", "-p", "no:randomly", "-p", "no:cacheprovider"]
    try:
        done = subprocess.run(
            [*command, *tests[:MOST_TESTS]], cwd=copy, env=environment, capture_output=True, timeout=SECONDS
        )
    except subprocess.TimeoutExpired:
        return "noticed"
    finally:
        path.write_text(source)
    return "unnoticed" if done.returncode == 0 else "noticed"


def main() -> None:
    """Try some changes of a layer, and tell the score and what went unnoticed."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("layer", choices=["core", "service"])
    parser.add_argument("--count", type=int, default=100)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--processes", type=int, default=2)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="openlatch-mutations-") as held:
        folder = Path(held)
        lines = covering(given.layer, folder)
        chosen = random.Random(given.seed).sample(sorted(every(given.layer), key=str), given.count)
        copies = []
        for number in range(given.processes):
            copy = folder / str(number)
            for part in ("src", "tests", "bench", "docs", "pyproject.toml"):
                whole = ROOT / part
                shutil.copytree(whole, copy / part) if whole.is_dir() else shutil.copy(whole, copy / part)
            copies.append(copy)
        free = list(copies)

        def one(mutation: Mutation) -> tuple[Mutation, str]:
            copy = free.pop()
            tests = lines.get((mutation.module, mutation.first)) or nearby(lines, mutation.module)
            result = tried(mutation, tests, copy)
            free.append(copy)
            out.print(f"{result:10} {mutation.module}:{mutation.first} {mutation.operator}", markup=False)
            return mutation, result

        with ThreadPoolExecutor(given.processes) as pool:
            results = list(pool.map(one, chosen))
    counted = Counter(result for _, result in results if result != "no change")
    share = counted["noticed"] / max(counted.total(), 1)
    out.print(f"{given.layer}: {share:.0%} of {counted.total()} changes noticed ({dict(counted)}, seed {given.seed})")


if __name__ == "__main__":
    main()
