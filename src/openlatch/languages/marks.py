"""How a model of the wire marks what is said to its reader, unlike what people wrote and what programs compare."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated


class _Mark:
    def __repr__(self) -> str:
        return "said"


@dataclass(frozen=True, slots=True)
class SaidBeside:
    """The mark of what is said where another field has a certain value, and a name where it has not."""

    field: str
    value: str


SAID = _Mark()
# A sentence or phrase of Open Latch's own, which is answered in the reader's language.
Said = Annotated[str, SAID]
