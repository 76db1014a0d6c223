"""The charter: how an organisation wants its register to be, as files."""

from __future__ import annotations

from openlatch import schemas
from openlatch.client.base import Calls


class CharterCalls(Calls):
    """The charter."""

    def charter(self) -> schemas.CharterPage:
        """The register's own charter, and what differs from the one that was adopted last."""
        return self._get(schemas.CharterPage, "/charter")

    def compare_charter(self, charter: schemas.Charter) -> schemas.CharterComparison:
        """What adopting a charter would change. Nothing happens yet."""
        return self._ask(schemas.CharterComparison, "POST", "/charter/comparison", charter)

    def adopt_charter(self, charter: schemas.Charter, fingerprint: str, source: str = "") -> schemas.CharterAdoption:
        """Adopt a charter, if it still changes what the comparison with this fingerprint showed."""
        wish = schemas.AdoptCharter(charter=charter, fingerprint=fingerprint, source=source)
        return self._ask(schemas.CharterAdoption, "PUT", "/charter", wish)
