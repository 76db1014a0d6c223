"""What a reading covered, and what exists in such a system that it did not, with the reason."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Why(StrEnum):
    """Why something was not covered. Only *not supported* leaves a reading complete."""

    NOT_SUPPORTED = "not supported"
    NOT_PERMITTED = "not permitted"
    NOT_UNDERSTOOD = "not understood"


@dataclass(frozen=True, slots=True)
class Gap:
    """One kind of access, or one place, that was not covered."""

    what: str
    why: Why
    place: str = ""

    @property
    def words(self) -> str:
        """It in words: "sudo rules in /etc/sudoers.d/x: not understood"."""
        return f"{self.what}{f' in {self.place}' if self.place else ''}: {self.why.value}"


@dataclass(frozen=True, slots=True)
class Coverage:
    """What a reading covered in one account, or without an account in the whole system, and what not."""

    account: str
    looked_at: tuple[str, ...] = ()
    gaps: tuple[Gap, ...] = ()
    """What it did not look at."""
    unable: tuple[str, ...] = ()
    """What Open Latch's login could not change there, and what it would need for that."""

    @property
    def is_partial(self) -> bool:
        """Whether something that should have been covered is unknown: then what is not shown is not absent."""
        return any(gap.why is not Why.NOT_SUPPORTED for gap in self.gaps)

    @property
    def shown(self) -> dict[str, list[str]]:
        """As it is stored and shown."""
        return {
            "looked_at": list(self.looked_at),
            "not_looked_at": [gap.words for gap in self.gaps],
            "unknown": [gap.words for gap in self.gaps if gap.why is not Why.NOT_SUPPORTED],
        }
