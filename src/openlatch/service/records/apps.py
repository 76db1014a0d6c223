"""Connected apps as records."""

from __future__ import annotations

from openlatch.core.files.records import BadField
from openlatch.core.files.records import web_address as read_web_address
from openlatch.errors import BadInput
from openlatch.json_values import JsonObject
from openlatch.service.records.kinds import Kind, Values, refuse_taken
from openlatch.service.records.people import logins_of, refuse_known, write_logins
from openlatch.service.unit import Unit
from openlatch.store.tables import App, Handle


class Apps(Kind[App]):
    """Software that holds grants."""

    name, noun, table = "apps", "app", App
    parts = frozenset({"handles.app_id", "flags.holder_id"})

    def refuse_removal(self, unit: Unit, row: App) -> None:
        """Conflict for an app that a system knows."""
        refuse_known(unit, row.name, Handle.app_id == row.id)

    def values(self, unit: Unit, row: App) -> JsonObject:
        """An app as form values."""
        return {
            "name": row.name,
            "publisher": row.publisher,
            "home_page": row.home_page,
            "purpose": row.purpose,
            "logins": logins_of(unit, Handle.app_id == row.id),
        }

    def write(self, unit: Unit, row: App, given: Values) -> None:
        """Write a form. BadInput for an invalid home page, or a name that is taken."""
        refuse_taken(unit, App, given["name"], row.id, "an app")
        home_page = given["home_page"]
        if home_page:
            try:
                home_page = read_web_address(home_page, unit.zone)
            except BadField as fault:
                raise BadInput(f"The home page {fault}.", "Write it as https://…", {"home_page": str(fault)}) from None
        row.name, row.publisher, row.purpose, row.home_page = (
            given["name"],
            given["publisher"],
            given["purpose"],
            home_page,
        )
        unit.db.flush()
        write_logins(unit, given["logins"], app=row.id)
