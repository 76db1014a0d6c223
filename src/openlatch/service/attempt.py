"""Trying something inside a transaction without a trace: the one savepoint helper."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace

from openlatch.errors import OpenLatchError
from openlatch.service.unit import Unit


class _TakeBack(Exception):
    """Rolls back what was tried."""


@contextmanager
def attempt(unit: Unit, keep: bool = True) -> Iterator[Unit]:
    """A savepoint; yields the unit to work with.

    On an error, or with ``keep`` off, everything is rolled back: rows, journal entries, announcements, wake-ups. Errors
    are raised again. With ``keep`` off the unit is marked as trying, and requires neither a fresh proof nor the access
    lock.
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
