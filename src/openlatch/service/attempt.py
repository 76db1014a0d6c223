"""Trying something inside a transaction, and leaving no trace of it: one savepoint helper for all use cases."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace

from openlatch.errors import OpenLatchError
from openlatch.service.unit import Unit


class _TakeBack(Exception):
    """What was tried has been seen, and is rolled back."""


@contextmanager
def attempt(unit: Unit, keep: bool = True) -> Iterator[Unit]:
    """A savepoint; yields the unit to work with.

    What fails in it, or is not to be kept, leaves no trace: no row, no journal entry, no announcement, no wake-up.
    An error passes on. With ``keep`` off the unit is marked as trying, and asks for no proof and no access lock.
    """
    before = unit.marks()
    within = unit if keep else replace(unit, trying=True, viewer=replace(unit.viewer, credential=None))
    try:
        with unit.db.begin_nested():
            yield within
            unit.db.flush()
            if not keep:
                raise _TakeBack
    except _TakeBack:
        unit.back_to(before)
        unit.db.expire_all()
    except OpenLatchError:
        unit.back_to(before)
        unit.db.expire_all()
        raise
