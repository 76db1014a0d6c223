"""Security events that other services report."""

from __future__ import annotations

from collections.abc import Sequence
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

    def remove_signal_source(self, ident: UUID) -> str:
        """Take no more events from it; gives what has to be done at the transmitter by hand, if anything."""
        return self._ask(schemas.SignalSourceRemoved, "DELETE", f"/signal-sources/{ident}").left

    def received_signals(self) -> schemas.ReceivedSignals:
        """What was reported last, and what came of it."""
        return self._get(schemas.ReceivedSignals, "/signals")

    def clear_report(self, person: UUID) -> None:
        """Say that what was reported about somebody is dealt with."""
        self._ask(schemas.Done, "POST", f"/people/{person}/clear-report")

    def signal_receivers(self) -> Sequence[schemas.SignalReceiverOf]:
        """The services that receive security events from here."""
        return self._get(schemas.SignalReceivers, "/signal-receivers").receivers

    def add_signal_receiver(self, name: str, audience: str = "") -> schemas.SignalReceiverMade:
        """Let a service make a stream of security events; its token is shown only now."""
        wish = schemas.AddSignalReceiver(name=name, audience=audience)
        return self._ask(schemas.SignalReceiverMade, "POST", "/signal-receivers", wish)

    def remove_signal_receiver(self, ident: UUID) -> None:
        """Send it nothing more."""
        self._ask(schemas.Done, "DELETE", f"/signal-receivers/{ident}")

    def pause_signal_receiver(self, ident: UUID, reason: str = "") -> schemas.SignalReceiverOf:
        """Pause its stream; what happens meanwhile is sent when it goes on."""
        body = schemas.HoldSignalReceiver(reason=reason)
        return self._ask(schemas.SignalReceiverOf, "PUT", f"/signal-receivers/{ident}/paused", body)

    def resume_signal_receiver(self, ident: UUID) -> schemas.SignalReceiverOf:
        """Let its stream go on."""
        return self._ask(schemas.SignalReceiverOf, "DELETE", f"/signal-receivers/{ident}/paused")

    def verify_signal_receiver(self, ident: UUID) -> None:
        """Send it an event that tells only that the stream works."""
        self._ask(schemas.Done, "POST", f"/signal-receivers/{ident}/verify")

    def sent_signals(self, receiver: UUID, state: str = "") -> Sequence[schemas.SentSignalOf]:
        """The latest events for it, or those in a state: waiting, delivered, given_up."""
        return self._get(schemas.SentSignals, f"/signal-receivers/{receiver}/events", state=state).events

    def send_signals_again(self, receiver: UUID) -> int:
        """Send events that were given up again; returns how many."""
        return self._ask(schemas.SentAgain, "POST", f"/signal-receivers/{receiver}/send-again").count
