"""The calls by which somebody lets a program in that waits for it (RFC 8628)."""

from __future__ import annotations

from openlatch import schemas
from openlatch.api.routing import api
from openlatch.service.identity import device_sign_in
from openlatch.service.unit import Unit


@api.add("POST", "/devices/look", "Look at the program that shows a code", schemas.DeviceAsked, body=schemas.DeviceCode)
def look_at_device(unit: Unit, body: schemas.DeviceCode) -> schemas.DeviceAsked:
    """What it calls itself, where it asked from, and what it would be let do."""
    return device_sign_in.look(unit, body.user_code)


@api.add("POST", "/devices/answer", "Let a program in, or refuse it", schemas.Done, body=schemas.AnswerDevice)
def answer_device(unit: Unit, body: schemas.AnswerDevice) -> schemas.Done:
    """It acts as you, by a token that is among yours and ends after 90 days."""
    device_sign_in.answer(unit, body.user_code, body.allows)
    return schemas.Done(done=True)
