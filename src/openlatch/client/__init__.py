"""The client library: every call of the API as a typed method, and as a coroutine."""

from openlatch.client.async_client import AsyncClient
from openlatch.client.client import Client
from openlatch.client.transport import CallFailed, Unreachable, service_at

__all__ = ["AsyncClient", "CallFailed", "Client", "Unreachable", "service_at"]
