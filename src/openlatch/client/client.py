"""``Client`` has the calls of every room."""

from __future__ import annotations

from types import TracebackType
from typing import Self

import httpx

from openlatch.client.access import AccessCalls
from openlatch.client.accounts import AccountsCalls
from openlatch.client.acting import ActingCalls
from openlatch.client.charter import CharterCalls
from openlatch.client.exposure import ExposureCalls
from openlatch.client.flags import FlagsCalls
from openlatch.client.grants import GrantsCalls
from openlatch.client.identity import IdentityCalls
from openlatch.client.journal import JournalCalls
from openlatch.client.latches import LatchesCalls
from openlatch.client.lists import ListsCalls
from openlatch.client.notifications import NotificationsCalls
from openlatch.client.offers import OffersCalls
from openlatch.client.partners import PartnersCalls
from openlatch.client.people import PeopleCalls
from openlatch.client.records import RecordsCalls
from openlatch.client.requests import RequestsCalls
from openlatch.client.reviews import ReviewsCalls
from openlatch.client.revocations import RevocationsCalls
from openlatch.client.settings import SettingsCalls
from openlatch.client.signals import SignalsCalls
from openlatch.client.systems import SystemsCalls
from openlatch.client.transport import PATIENCE, Transport
from openlatch.client.trends import TrendsCalls
from openlatch.client.webhooks import WebhooksCalls


class Client(
    AccessCalls,
    AccountsCalls,
    ActingCalls,
    CharterCalls,
    ExposureCalls,
    FlagsCalls,
    GrantsCalls,
    IdentityCalls,
    JournalCalls,
    LatchesCalls,
    ListsCalls,
    NotificationsCalls,
    OffersCalls,
    PartnersCalls,
    PeopleCalls,
    RecordsCalls,
    RequestsCalls,
    ReviewsCalls,
    RevocationsCalls,
    SettingsCalls,
    SignalsCalls,
    SystemsCalls,
    TrendsCalls,
    WebhooksCalls,
):
    """The service at ``address``, as whoever ``token`` belongs to. Times are aware datetimes in UTC.

    Every method raises CallFailed when the service says no, and Unreachable when none answers. Where the service is
    busy and says for how long, a call is sent again, as long as that is within ``patience`` seconds in all. Sentences
    are in ``language``, a code like de, where the service speaks it, else in English.
    """

    def __init__(
        self,
        address: str,
        token: str = "",
        transport: httpx.BaseTransport | None = None,
        patience: float = PATIENCE,
        language: str = "",
    ) -> None:
        self._transport = Transport(address, token, transport, patience, language)

    @classmethod
    def over(cls, transport: Transport) -> Self:
        """The calls over a transport that there is already."""
        made = cls.__new__(cls)
        made._transport = transport
        return made

    def close(self) -> None:
        """Give the connections back."""
        self._transport.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()
