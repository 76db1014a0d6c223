"""Which language the reader of an answer wants, and the answer in it."""

from __future__ import annotations

import orjson
from flask import Response, request
from pydantic import BaseModel

from openlatch.languages import ENGLISH
from openlatch.languages.catalogue import catalogue_of, known
from openlatch.languages.wire import translate

LANGUAGE_COOKIE = "openlatch_language"
_JSON = ("application/json", "application/problem+json")


def language() -> str:
    """The code of the language that the reader has chosen in the console, or else of the first that they ask for
    (RFC 9110, section 12.5.4) and that is spoken here; English when there is none.
    """
    asked = [tag.partition("-")[0].lower() for tag, quality in request.accept_languages if quality > 0]
    return next((one for one in (request.cookies.get(LANGUAGE_COOKIE), *asked) if one in known()), ENGLISH)


def say(text: str) -> str:
    """A text of the service in the reader's language."""
    catalogue = catalogue_of(language())
    return text if catalogue is None else catalogue.say(text)


def in_their_language(response: Response, model: type[BaseModel] | None) -> Response:
    """The answer with what it says in its reader's language; what people wrote, and what is no JSON, stays as it is."""
    if model is None or response.mimetype not in _JSON or response.is_streamed:
        return response
    response.vary.update(("Accept-Language", "Cookie"))
    catalogue = catalogue_of(language())
    if catalogue is not None:
        told = translate(model, orjson.loads(response.get_data()), catalogue)
        response.set_data(orjson.dumps(told))
        response.content_language.add(catalogue.language)
    return response
