"""A worked example: an adapter for a rota that is kept as a CSV file, `account,holder,level,until`."""

from __future__ import annotations

import csv
import io
import os
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from openlatch.adapters import (
    NOTHING,
    Abilities,
    Adapter,
    Found,
    FoundLevel,
    Holding,
    Login,
    Setting,
    SharedAccount,
    Whole,
)
from openlatch.core.revocations.plan import Move
from openlatch.core.vocabulary import Reach, StepKind
from openlatch.errors import SystemDown, SystemRefused

SEE = ("see", "See the rota", Reach.OBSERVE)
CHANGE = ("change", "Change the rota", Reach.OPERATE)
# Lowest first.
LEVELS = (
    FoundLevel("reader", "Reader", "Can see the rota.", (SEE,)),
    FoundLevel("planner", "Planner", "Can see and change the rota.", (SEE, CHANGE)),
)
FIELDS = ("account", "holder", "level", "until")


class RotaAdapter(Adapter):
    """Reads and changes one file."""

    settings_taken = (Setting("file", "Where the rota is."),)
    can = Abilities(
        steps=frozenset({StepKind.GIVE, StepKind.REMOVE, StepKind.REDUCE}),
        rights=("to read and replace the file",),
        secret=False,
    )

    def __init__(self, settings: dict[str, Any], secret: str) -> None:
        self._file = Path(settings["file"])

    def check(self) -> None:
        """Say what is missing before anything is stored."""
        self._rows()
        if not os.access(self._file.parent, os.W_OK):
            raise SystemRefused(f"{self._file} can't be replaced.", "Give the right to write its folder.")

    def read(self, since: Mapping[str, str] = NOTHING) -> Iterator[Found]:
        """Accounts and logins before what names them, and Whole at the very end."""
        rows = self._rows()
        yield from LEVELS
        yield from (SharedAccount(name, name, "rota") for name in dict.fromkeys(row["account"] for row in rows))
        for name in dict.fromkeys(row["holder"] for row in rows):
            # An address is a mark by which the person is told.
            yield Login(name, name, False, {"address": name} if "@" in name else {})
        for row in rows:
            until = datetime.fromisoformat(row["until"]).replace(tzinfo=UTC) if row["until"] else None
            handle = {"account": row["account"], "holder": row["holder"]}
            yield Holding(row["account"], row["holder"], False, row["level"], until, handle)
        yield Whole()

    def can_reduce(self, level: str, lower: str) -> bool:
        """Planners can be made readers."""
        return (level, lower) == ("planner", "reader")

    def holding(self, account: str, login: str, level: str) -> dict[str, Any]:
        """What a step has to know of a holding that is yet to be."""
        return {"account": account, "holder": login, "level_key": level}

    def plan(self, kind: StepKind, detail: dict[str, Any]) -> tuple[Move, ...]:
        """A file insists on no order: one move."""
        return (Move(kind, detail),)

    def apply(self, kind: StepKind, detail: dict[str, Any]) -> str:
        """Look first, so that doing it twice does it once; then replace the file in one go."""
        if self.confirm(kind, detail) is None:
            return "It was so already; nothing was changed."
        mine = [row for row in self._rows() if self._is(row, detail)]
        rows = [row for row in self._rows() if not self._is(row, detail)]
        if kind is StepKind.REDUCE:
            rows += [{**row, "level": detail["to"]} for row in mine]
        elif kind is StepKind.GIVE:
            rows.append(
                {"account": detail["account"], "holder": detail["holder"], "level": detail["level_key"], "until": ""}
            )
        self._write(rows)
        return f"Changed the line of {detail['holder']}."

    def confirm(self, kind: StepKind, detail: dict[str, Any]) -> str | None:
        """What the system shows, and not what we remember of it."""
        level = next((row["level"] for row in self._rows() if self._is(row, detail)), None)
        if kind is StepKind.GIVE:
            return None if level in (detail["level_key"], "planner") else f"{detail['holder']} is not there yet"
        if level is None or (kind is StepKind.REDUCE and level == detail["to"]):
            return None
        return f"{detail['holder']} is still {level} of {detail['account']}"

    @staticmethod
    def _is(row: dict[str, str], detail: dict[str, Any]) -> bool:
        return (row["account"], row["holder"]) == (detail["account"], detail["holder"])

    def _rows(self) -> list[dict[str, str]]:
        try:
            text = self._file.read_text()
        except FileNotFoundError as error:
            raise SystemDown(f"There is no {self._file}.", "Look whether its folder is there.") from error
        except OSError as error:
            raise SystemRefused(f"{self._file} can't be read: {error.strerror}.", "Give the right to.") from error
        rows = list(csv.DictReader(io.StringIO(text)))
        if any(set(row) != set(FIELDS) or row["level"] not in {level.key for level in LEVELS} for row in rows):
            raise SystemRefused(f"{self._file} is no rota.", f"Its columns are {', '.join(FIELDS)}.")
        return rows

    def _write(self, rows: list[dict[str, str]]) -> None:
        fresh = self._file.with_suffix(".new")
        with fresh.open("w", newline="") as file:
            writer = csv.DictWriter(file, FIELDS)
            writer.writeheader()
            writer.writerows(rows)
        fresh.replace(self._file)
