"""The calls about the journal."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator
from datetime import datetime

import orjson
from flask import Response

from openlatch import schemas
from openlatch.api.routing import api, the_service, viewer
from openlatch.core.journal import chain
from openlatch.core.journal import tree_heads as tree_heads_core
from openlatch.errors import TooLarge
from openlatch.service.journal import archive, entries, events, signed_heads
from openlatch.service.unit import Unit
from openlatch.store import journal
from openlatch.store.database import transaction

# Entries verified within about ten seconds.
MOST_VERIFIED = 250_000


@api.add("GET", "/journal/verify", "Verify the journal", schemas.JournalVerdict, query=schemas.VerifyOptions)
def verify_journal(unit: Unit, query: schemas.VerifyOptions) -> schemas.JournalVerdict:
    """Verifies every entry from the first. With a position and hash noted earlier, also that the journal still contains
    them.
    """
    unit.sight.require_administrator()
    expected = journal.head(unit.db)
    if expected[0] > MOST_VERIFIED:
        raise TooLarge(
            f"The journal has {expected[0]} entries, more than one call has time for.",
            "Take it away and verify it: openlatch journal export FILE, openlatch journal verify --file FILE.",
        )
    noted = (query.position, query.hash.lower()) if query.position is not None and query.hash else expected
    held = entries.every(unit.service, unit.db, unit.viewer.organisation)
    found = chain.verify(held, noted, tree_heads_core.Watch(signed_heads.every(unit)))
    return schemas.JournalVerdict.model_validate(
        {**dataclasses.asdict(found), "sound": found.sound, "head_position": expected[0], "head_hash": expected[1]}
    )


@api.add("GET", "/journal/heads", "Signed tree heads over the journal", schemas.TreeHeads)
def journal_heads(unit: Unit) -> schemas.TreeHeads:
    """To be kept elsewhere: each vouches for all entries up to it. openlatch journal verify --head takes them."""
    return schemas.TreeHeads(heads=signed_heads.listed(unit))


@api.add("GET", "/journal/archive", "The files of the archive", schemas.ArchivedParts)
def journal_archive(unit: Unit) -> schemas.ArchivedParts:
    """What is older than the database keeps, and whether each file is there as it was written."""
    return archive.listed(unit)


@api.add(
    "GET",
    "/journal/archive/entries",
    "Entries of the journal that are in the archive",
    schemas.ArchivedEntries,
    query=schemas.ListArchived,
)
def archived_entries(unit: Unit, query: schemas.ListArchived) -> schemas.ArchivedEntries:
    """In order, after a position; with ``about`` only those about one thing. 503 when a file of it can't be read."""
    return archive.listed_entries(unit, query)


@api.add("GET", "/journal/export", "Take the whole journal away, as JSON Lines", None, open=True)
def export_journal() -> Response:
    """To verify it elsewhere: openlatch journal verify --file."""
    who = viewer()
    service = the_service()
    with service.unit(who) as unit:
        unit.sight.require_administrator()
        # Said before the answer begins, since afterwards it could only break off.
        entries.require_archive(service, unit.db)

    def lines() -> Iterator[bytes]:
        with transaction(service.engine, who.organisation) as db:
            for entry in entries.every(service, db, who.organisation):
                yield orjson.dumps(entry) + b"\n"

    name = f"journal-{datetime.now():%Y-%m-%d}.jsonl"
    return Response(
        lines(), content_type="application/jsonl", headers={"Content-Disposition": f'attachment; filename="{name}"'}
    )


@api.add(
    "GET",
    "/journal/events",
    "Journal entries as OCSF events, as JSON Lines",
    None,
    query=schemas.ListEvents,
)
def journal_events(unit: Unit, query: schemas.ListEvents) -> Response:
    """In order, after a position: the last one's ``metadata.sequence`` is where to go on. Empty when there are none."""
    unit.sight.require_administrator()
    assert unit.viewer.organisation is not None
    found = events.after(unit.service, unit.db, unit.viewer.organisation, query.after, query.limit)
    return Response(b"".join(orjson.dumps(one) + b"\n" for one in found), content_type="application/jsonl")
