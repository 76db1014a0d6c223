"""Names for JSON as Python holds it.

What a member holds is known to whoever reads it, and checked there: by a model at the edges, by a constraint of the
table where it is stored. A recursive type would demand the same checks again at every step in between.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any

# One value of JSON, of whatever type.
JsonValue = Any
# A JSON object that may be filled, and one that is only read.
JsonObject = dict[str, Any]
JsonView = Mapping[str, Any]
JsonList = list[Any]
# A row of a query whose columns its reader has chosen, by name or by position.
SqlRow = dict[str, Any]
SqlTuple = Sequence[Any]


def parsed(written: str | bytes) -> JsonValue:
    """JSON that somebody else has written. ValueError for what is none, and for what is nested too deeply to read."""
    try:
        return json.loads(written)
    except RecursionError:
        raise ValueError("it is nested too deeply") from None
