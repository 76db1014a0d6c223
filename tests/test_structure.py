"""The code as a house: rooms that never import in a circle, and modules that can be imported by themselves."""

from __future__ import annotations

import ast
from graphlib import TopologicalSorter
from pathlib import Path
from typing import get_args

import grimp

from openlatch import schemas
from openlatch.service.records.edit import KINDS

SOURCES = Path(schemas.__file__).parents[1]
GRAPH = grimp.build_graph("openlatch", exclude_type_checking_imports=True, cache_dir=None)


def test_imports_never_go_in_a_circle() -> None:
    """Not inside a layer, nor by an import inside a function: so each module can be imported by itself."""
    assert len(GRAPH.modules) > 300
    TopologicalSorter({name: GRAPH.find_modules_directly_imported_by(name) for name in GRAPH.modules}).prepare()


def test_rooms_of_a_layer_never_use_each_other_in_a_circle() -> None:
    """Also where no two of their modules do."""
    for layer in GRAPH.find_children("openlatch"):
        rooms = GRAPH.find_children(layer)
        uses: dict[str, set[str]] = {room: set() for room in rooms}
        for name in GRAPH.modules:
            here = _room_of(name, rooms)
            found = {_room_of(other, rooms) for other in GRAPH.find_modules_directly_imported_by(name)}
            if here is not None:
                uses[here] |= {other for other in found if other is not None and other != here}
        TopologicalSorter(uses).prepare()


def _room_of(name: str, rooms: set[str]) -> str | None:
    return next((room for room in rooms if name == room or name.startswith(f"{room}.")), None)


def test_whatever_is_journalled_or_announced_is_a_kind_that_consoles_know() -> None:
    """The kinds in the API's document are those of the code; what shows them is chosen by their names."""
    used = {kind.noun for kind in KINDS.values()}
    for path in (SOURCES / "service").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
                place = {"record": 1, "announce": 0}.get(node.func.attr)
                if place is not None and len(node.args) > place and isinstance(node.args[place], ast.Constant):
                    used.add(node.args[place].value)
    assert used | {"notice", "everything", "action"} == set(get_args(schemas.ChangedKind))
