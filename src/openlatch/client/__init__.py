"""The client library: every call of the API as a typed method."""

from openlatch.client.client import Client
from openlatch.client.transport import CallFailed, Unreachable

__all__ = ["CallFailed", "Client", "Unreachable"]
