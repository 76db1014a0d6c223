"""Answers of the API in another language: the fields that their models mark as said, and nothing else."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from functools import lru_cache
from typing import Annotated, Any, get_args, get_origin

from pydantic import BaseModel

from openlatch.json_values import JsonValue
from openlatch.languages.catalogue import Catalogue
from openlatch.languages.marks import SAID, SaidBeside

Say = Callable[[str], str]
# What to do with a value: the fields to go into, or SAID for a text to say; None for what is left alone.
Plan = Any


def translate(model: type[BaseModel], answer: JsonValue, catalogue: Catalogue) -> JsonValue:
    """An answer as JSON has it, with what its model marks as said in the catalogue's language."""
    return _told(_plan_of(model), answer, catalogue.say)


def _told(plan: Plan, value: JsonValue, say: Say) -> JsonValue:
    if plan is None or value is None:
        return value
    if isinstance(value, str):
        return say(value) if plan is SAID else value
    if isinstance(value, list):
        return [_told(plan, one, say) for one in value]
    if isinstance(value, dict):
        if isinstance(plan, _Every):
            return {name: _told(plan.plan, one, say) for name, one in value.items()}
        if isinstance(plan, Mapping):
            return {name: _told(_here(plan.get(name), value), one, say) for name, one in value.items()}
    return value


def _here(plan: Plan, answer: Mapping[str, JsonValue]) -> Plan:
    """What to do with a field that is said only beside a certain value of another."""
    if isinstance(plan, SaidBeside):
        return SAID if answer.get(plan.field) == plan.value else None
    return plan


class _Every:
    """All values of an object whose names are not known beforehand."""

    def __init__(self, plan: Plan) -> None:
        self.plan = plan


@lru_cache
def _plan_of(model: type[BaseModel]) -> Plan:
    return _of_fields(model, ())


def _of_fields(model: type[BaseModel], within: tuple[type[BaseModel], ...]) -> Plan:
    if model in within:
        return None
    model.model_rebuild()
    found = {
        name: plan
        for name, field in model.model_fields.items()
        if (plan := _marked(field.metadata) or _of_type(field.annotation, (*within, model))) is not None
    }
    return found or None


def _marked(metadata: Iterable[object]) -> Plan:
    return next((mark for mark in metadata if mark is SAID or isinstance(mark, SaidBeside)), None)


def _of_type(kind: Any, within: tuple[type[BaseModel], ...]) -> Plan:
    if get_origin(kind) is Annotated:
        return SAID if SAID in kind.__metadata__ else _of_type(get_args(kind)[0], within)
    if isinstance(kind, type) and issubclass(kind, BaseModel):
        return _of_fields(kind, within)
    if get_origin(kind) is dict:
        plan = _of_type(get_args(kind)[1], within)
        return None if plan is None else _Every(plan)
    return next((plan for one in get_args(kind) if (plan := _of_type(one, within)) is not None), None)
