"""Where transmitters push security events to: ``POST /signals/receive/<source>`` (RFC 8935).

The body is one security event token (RFC 8417). What is taken is answered with 202 and nothing; what is not, with
400 and the error of RFC 8935, section 2.4.
"""

from __future__ import annotations

from uuid import UUID

import orjson
from flask import Blueprint, Response, request

from openlatch.api.routing import the_service
from openlatch.core.signals import MOST_BYTES, Refused
from openlatch.service.signals import receive

TYPE = "application/secevent+jwt"
pages = Blueprint("signals", __name__)


@pages.post("/signals/receive/<uuid:ident>")
def received(ident: UUID) -> Response:
    """Take one event and act on it."""
    try:
        if request.mimetype != TYPE:
            raise Refused("invalid_request", f"Send {TYPE}.")
        if (request.content_length or 0) > MOST_BYTES:
            raise Refused("invalid_request", f"A token has at most {MOST_BYTES} bytes.")
        try:
            token = request.get_data(as_text=True).strip()
        except UnicodeDecodeError:
            raise Refused("invalid_request", "The token is no text.") from None
        scheme, _, shown = request.headers.get("Authorization", "").partition(" ")
        receive.receive(the_service(), ident, shown.strip() if scheme.lower() == "bearer" else "", token)
    except Refused as error:
        status = 401 if error.error == "authentication_failed" else 400
        headers = {"WWW-Authenticate": "Bearer"} if status == 401 else {}
        told = orjson.dumps({"err": error.error, "description": error.description})
        return Response(told, status, content_type="application/json", headers={**headers, "Content-Language": "en"})
    return Response(status=202)
