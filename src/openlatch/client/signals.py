"""Security events that other services report."""

from __future__ import annotations

from uuid import UUID

from openlatch import schemas
from openlatch.client.base import Calls


class SignalsCalls(Calls):
    """Security events that other services report."""

    def signal_sources(self) -> schemas.SignalSources:
        """The services that report them, and the types of events that count."""
        return self._get(schemas.SignalSources, "/signal-sources")

    def add_signal_source(self, wish: schemas.SetSignalSource) -> schemas.SignalSourceMade:
        """Take events from a transmitter; its token is shown only now."""
        return self._ask(schemas.SignalSourceMade, "POST", "/signal-sources", wish)

    def change_signal_source(self, ident: UUID, wish: schemas.SetSignalSource) -> schemas.SignalSourceOf:
        """Change what its events make happen."""
        return self._ask(schemas.SignalSourceOf, "PUT", f"/signal-sources/{ident}", wish)

    def remove_signal_source(self, ident: UUID) -> None:
        """Take no more events from it."""
        self._ask(schemas.Done, "DELETE", f"/signal-sources/{ident}")

    def received_signals(self) -> schemas.ReceivedSignals:
        """What was reported last, and what came of it."""
        return self._get(schemas.ReceivedSignals, "/signals")

    def clear_report(self, person: UUID) -> None:
        """Say that what was reported about somebody is dealt with."""
        self._ask(schemas.Done, "POST", f"/people/{person}/clear-report")
