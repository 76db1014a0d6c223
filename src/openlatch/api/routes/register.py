"""The whole register as a file: to leave with, and to begin anew from."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from typing import Any

import orjson
from flask import Response, request

from openlatch import schemas
from openlatch.api.api import LARGEST_IMPORT, api
from openlatch.api.routing import the_service, viewer
from openlatch.service.records import whole_register
from openlatch.service.unit import Unit

__all__ = ["api"]


@api.add("GET", "/register/schema", "The format of a whole register", None)
def register_schema(unit: Unit) -> Response:
    """As JSON Schema: what each line of the file may be."""
    return Response(orjson.dumps(whole_register.schema()), content_type="application/schema+json")


@api.add("GET", "/register/export", "Take the whole register away", None, open=True)
def export_register() -> Response:
    """As JSON Lines, of one instant, without secrets. For administrators, after a fresh proof."""
    who, service = viewer(), the_service()
    with service.unit(who) as unit:
        unit.sight.require_administrator()
        unit.require_proof("Taking the whole register away")
        if unit.viewer.may_write:
            unit.record("register.taken", "organisation", who.organisation, "The whole register")
        name = f"register-{unit.now:%Y-%m-%d}.jsonl"

    def lines() -> Iterator[bytes]:
        with service.unit(who) as unit:
            yield from whole_register.lines(unit)

    return Response(
        lines(), content_type="application/jsonl", headers={"Content-Disposition": f'attachment; filename="{name}"'}
    )


@api.add("POST", "/register/import", "Bring a whole register", schemas.RegisterBrought, status=201, streams=True)
def import_register(unit: Unit) -> dict[str, Any]:
    """Into an organisation that is empty yet. The body is the file itself; all of it comes in, or nothing."""
    unit.sight.require_administrator()
    request.max_content_length = LARGEST_IMPORT
    with tempfile.TemporaryFile() as held:
        while block := request.stream.read(1 << 20):
            held.write(block)
        return whole_register.bring(unit, held)
