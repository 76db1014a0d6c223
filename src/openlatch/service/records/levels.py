"""Levels as records: archived and removed. They are made and changed with a preview of whose rights change."""

from __future__ import annotations

from openlatch.errors import BadInput, Conflict
from openlatch.json_values import JsonObject
from openlatch.service.records.kinds import Kind, Values
from openlatch.service.unit import Unit
from openlatch.store.tables import Level, System


class Levels(Kind[Level]):
    """Named sets of permissions."""

    name, noun, table = "levels", "level", Level
    parts = frozenset[str]()

    def refuse_removal(self, unit: Unit, row: Level) -> None:
        """Conflict for a level of a system that is read: the next reading would bring it back."""
        system = unit.db.get_one(System, row.system_id)
        if system.kind in unit.service.adapters:
            raise Conflict(
                f"{row.name} comes from {system.name}, and its next reading would bring it back.", "Archive it instead."
            )

    def values(self, unit: Unit, row: Level) -> JsonObject:
        """A level in words."""
        keys = [permission["key"] for permission in row.permissions]
        return {"name": row.name, "key": row.key, "sentence": row.sentence, "permissions": keys}

    def write(self, unit: Unit, row: Level, given: Values) -> None:
        """BadInput: whose rights change has to be previewed."""
        raise BadInput("A level is changed with a preview of whose rights grow or shrink.", "Change it as a level.")
