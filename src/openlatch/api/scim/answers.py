"""What every call of SCIM shares: who asks, what they sent, and answers and errors as the standard has them."""

from __future__ import annotations

import re
from collections.abc import Callable, Container
from contextlib import AbstractContextManager
from functools import wraps
from uuid import UUID

from flask import Response, request
from pydantic import ValidationError
from scim2_models import Error, SCIMException, ScimPolicy
from werkzeug.exceptions import RequestEntityTooLarge

from openlatch.api.door import refuse_unusable
from openlatch.api.routing import challenge, the_service
from openlatch.api.scim import PREFIX
from openlatch.errors import BadInput, NotAllowed, NotFound, NotSignedIn, OpenLatchError, Outdated
from openlatch.json_values import JsonObject, parsed
from openlatch.service.identity import authentication
from openlatch.service.unit import Unit

TYPE = "application/scim+json"
View = Callable[..., Response]
# Those that something may have when it is changed; None: any.
Versions = Container[int] | None
# Directories send attributes that nobody here keeps; a telephone number among them is no reason to refuse somebody.
TOLERANT = ScimPolicy(unknown=ScimPolicy.Unknown.ignore)


class Unreadable(Exception):
    """A request that can't be read."""


# What a call may raise, each of which has an answer of the standard's own.
ERRORS = (SCIMException, ValidationError, OpenLatchError, Unreadable)


def base() -> str:
    """The address that locations begin with."""
    return f"{the_service().address}{PREFIX}"


def answer(body: str, status: int = 200, **headers: str) -> Response:
    """JSON that is written already, as an answer."""
    return Response(body, status, content_type=TYPE, headers=headers)


def problem(status: int, detail: str, kind: str | None = None) -> Response:
    """An error, with the keyword that the standard has for it."""
    return answer(Error(status=status, detail=detail, scim_type=kind).model_dump_json(), status)


def told(view: View) -> View:
    """The call, with its errors as the standard has them."""

    @wraps(view)
    def called(**path: str) -> Response:
        try:
            with TOLERANT:
                return view(**path)
        except ERRORS as error:
            return refused(error)
        except RequestEntityTooLarge:
            return problem(413, f"Send at most {request.max_content_length} bytes.")

    return called


def refused(error: Exception) -> Response:
    """The answer for one of ERRORS."""
    if isinstance(error, SCIMException):
        return answer(error.to_error().model_dump_json(), error.status)
    if isinstance(error, ValidationError):
        found = Error.from_validation_errors(error)[0]
        return answer(found.model_dump_json(), found.status or 400)
    if not isinstance(error, OpenLatchError):
        return problem(400, str(error), "invalidSyntax")
    words = f"{error.detail} {error.remedy}".strip()
    if isinstance(error, Outdated):
        return problem(412, words)
    if isinstance(error, BadInput):
        is_taken = any("is taken" in why or "is the address of" in why for why in error.fields.values())
        return problem(409, words, "uniqueness") if is_taken else problem(400, words, "invalidValue")
    response = problem(error.status, words)
    if isinstance(error, (NotSignedIn, NotAllowed)):
        response.headers.update(challenge(error))
    return response


def unit() -> AbstractContextManager[Unit]:
    """A transaction of the directory whose token is shown. NotSignedIn without one."""
    scheme, _, token = request.headers.get("Authorization", "").partition(" ")
    if scheme.lower() != "bearer" or not token:
        raise NotSignedIn("A directory shows its token.", "Send: Authorization: Bearer …")
    service = the_service()
    return service.unit(authentication.viewer_of_directory(service, token))


def body() -> JsonObject:
    """What was sent, as a JSON object. Unreadable for anything else; BadInput for values that nothing could keep."""
    try:
        found = parsed(request.get_data())
    except ValueError as error:
        raise Unreadable(f"The body is no JSON: {error}") from error
    if not isinstance(found, dict):
        raise Unreadable("The body has to be a JSON object.")
    refuse_unusable(found)
    return found


def ident_of(written: str) -> UUID:
    """An id in an address. NotFound for what is none."""
    try:
        return UUID(written)
    except ValueError:
        raise NotFound(f"There is nothing with the id {written}.") from None


def versions_of(header: str) -> Versions:
    """The versions that a precondition names, any of which will do (RFC 9110, 13.1.1). Outdated for none of ours."""
    if header.strip() in ("", "*"):
        return None
    found = [int(number) for number in re.findall(r'(?:^|,)\s*(?:W/)?"(\d{1,18})"\s*(?=,|$)', header)]
    if not found:
        raise Outdated("That is no version of ours.", "Send what meta.version says.")
    return found
