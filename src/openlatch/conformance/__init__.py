"""What every adapter has to do, as a suite of tests that anybody can hold theirs to.

An adapter of any package is proved by a fixture ``world`` and the tests of ``openlatch.conformance.suite``: see
"Write an adapter" among the how-tos. pytest is needed for it, and nothing else of the service is.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from openlatch.adapters import Adapter, Maker
from openlatch.json_values import JsonObject

__all__ = ["World"]


@dataclass
class World:
    """A system with two holders in one account, and how to ask it about them without the adapter.

    ``make`` makes the adapter; ``secret`` is its secret there, empty where it has none. ``goes`` is taken away in the
    tests and ``stays`` is not; ``asked`` gives what the system itself says that a holder holds in the account, empty
    when nothing. ``unreachable``: settings by which the system is not reached.

    Where the adapter can: ``session`` opens one, and gives its login and whether it still goes on; ``locked`` says
    whether a login is, of which ``lockable`` is one. ``reduces`` and ``gives_new`` say that it has a level that can be
    reduced, and that it gives access that was not there before; ``gives_again`` that it gives again what was taken
    away; ``spoilt`` puts a name from outside into a handle,
    where handles have none of the holder's.
    """

    make: Maker
    settings: JsonObject
    account: str
    goes: str
    stays: str
    asked: Callable[[str], str]
    unreachable: JsonObject
    stop: Callable[[], None] = lambda: None
    secret: str = ""
    session: Callable[[], tuple[str, Callable[[], bool]]] | None = None
    locked: Callable[[str], bool] | None = None
    lockable: str = ""
    reduces: bool = True
    gives_new: bool = True
    gives_again: bool = True
    spoilt: Callable[[JsonObject, str], JsonObject] | None = None
    kind: str = ""
    extra: dict[str, Any] = field(default_factory=dict)

    def adapter(self, secret: str = "", **changed: Any) -> Adapter:
        """The system's adapter, perhaps told something else."""
        return self.make({**self.settings, **changed}, secret or self.secret)
