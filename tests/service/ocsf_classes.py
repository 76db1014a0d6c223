"""Classes of the Open Cybersecurity Schema Framework, as others wrote them down from the published schema.

They are read from their source: their models can't be imported beside the pydantic of today.
"""

from __future__ import annotations

import ast
import importlib.util
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

# What a value of a basic type has to be; times are milliseconds, and what is free may be anything.
BASIC: dict[str, tuple[type, ...]] = {
    "str": (str,),
    **dict.fromkeys(("EmailStr", "IPvAnyAddress", "AnyUrl", "HttpUrl", "UUID"), (str,)),
    "int": (int,),
    "bool": (bool,),
    "float": (int, float),
    "datetime": (int,),
    "dict": (dict,),
    "Any": (object,),
    "object": (object,),
}


@dataclass(frozen=True)
class Class:
    """An object or event: the type of each attribute as it is written, those that it needs, and its constants."""

    bases: tuple[str, ...]
    types: dict[str, str]
    needed: frozenset[str]
    constants: dict[str, object]


def read() -> dict[str, Class]:
    """Every class by its name."""
    spec = importlib.util.find_spec("ocsf")
    assert spec is not None
    assert spec.submodule_search_locations is not None
    root = Path(spec.submodule_search_locations[0])
    nodes = [node for path in sorted(root.rglob("*.py")) for node in ast.parse(path.read_text()).body]
    return {node.name: _class(node) for node in nodes if isinstance(node, ast.ClassDef)}


def _class(node: ast.ClassDef) -> Class:
    fields = {n.target.id: n for n in node.body if isinstance(n, ast.AnnAssign) and isinstance(n.target, ast.Name)}
    plain = [n for n in node.body if isinstance(n, ast.Assign) and isinstance(n.targets[0], ast.Name)]
    constants = {ast.unparse(n.targets[0]): n.value for n in plain}
    constants |= {name: n.value for name, n in fields.items() if n.value is not None}
    types = {ast.unparse(n.targets[0]): "Any" for n in plain}
    types |= {name: ast.unparse(n.annotation) for name, n in fields.items()}
    # What a model works out of the rest is sent as well.
    worked_out = [n for n in node.body if isinstance(n, ast.FunctionDef) and n.decorator_list and n.returns]
    types |= {n.name: ast.unparse(n.returns) for n in worked_out if n.returns}
    return Class(
        tuple(ast.unparse(base) for base in node.bases),
        types,
        frozenset(name for name, n in fields.items() if n.value is None),
        {name: value.value for name, value in constants.items() if isinstance(value, ast.Constant)},
    )


@dataclass(frozen=True)
class Schema:
    """The classes, by which events are checked."""

    classes: dict[str, Class]

    def event(self, number: int) -> str:
        """The name of the class of events with a number."""
        return next(name for name, one in self.classes.items() if one.constants.get("class_uid") == number)

    def activities(self, event: str) -> dict[object, str]:
        """The names of what an event can tell, by their numbers."""
        names = self.classes[self._all(event)["activity_id"].partition(" ")[0]].constants
        return {number: name for name, number in names.items()}

    def faults(self, name: str, value: Any, where: str = "") -> Iterator[str]:
        """What of an object or event is not as its class has it: attributes that are missing, unknown, or of another
        type.
        """
        if not isinstance(value, dict):
            yield f"{where} is no object"
            return
        types = self._all(name)
        needed = set().union(*(self.classes[one].needed for one in self._line(name)))
        # A name can be given again by a class with a value.
        yield from (f"{where}.{one} is missing" for one in needed - value.keys() - self._given(name))
        for key, held in value.items():
            if key not in types:
                yield f"{where}.{key} is unknown"
            else:
                yield from self._typed(types[key], held, f"{where}.{key}")

    def _typed(self, written: str, value: Any, where: str) -> Iterator[str]:
        choices = [one.strip() for one in re.sub(r"Optional\[(.*)\]", r"\1 | None", written).split("|")]
        if value is None:
            yield from () if "None" in choices else (f"{where} is null",)
            return
        kind = next(one for one in choices if one != "None").strip("'\"")
        if kind.startswith("list["):
            if not isinstance(value, list):
                yield f"{where} is no list"
                return
            for one in value:
                yield from self._typed(kind[5:-1], one, f"{where}[]")
        elif (basic := BASIC.get(kind.partition("[")[0])) is not None:
            if not isinstance(value, basic) or (isinstance(value, bool) and bool not in basic and object not in basic):
                yield f"{where} is no {kind}: {value!r}"
        elif any("Enum" in base for one in self._line(kind) for base in self.classes[one].bases):
            if value not in self.classes[kind].constants.values():
                yield f"{where} is none of {kind}: {value!r}"
        else:
            yield from self.faults(kind, value, where)

    def _line(self, name: str) -> list[str]:
        """A class and those that it extends."""
        found = [name]
        for base in self.classes[name].bases:
            found += self._line(base) if base in self.classes else []
        return found

    def _all(self, name: str) -> dict[str, str]:
        return {key: kind for one in reversed(self._line(name)) for key, kind in self.classes[one].types.items()}

    def _given(self, name: str) -> set[str]:
        return {key for one in self._line(name) for key in self.classes[one].constants}
