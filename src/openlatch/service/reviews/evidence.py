"""The evidence of a review that has ended: one bundle that says what was reviewed, decided and carried out."""

from __future__ import annotations

import csv
import io
from collections import defaultdict
from datetime import UTC, datetime
from typing import Any
from uuid import UUID

import orjson
from sqlalchemy import or_, select

from openlatch.core.reviews import bundle
from openlatch.core.spreadsheets import guarded
from openlatch.core.words import Severity
from openlatch.errors import Conflict, NotFound
from openlatch.service import signing
from openlatch.service.context import Unit
from openlatch.service.reviews import report, rounds
from openlatch.store import journal
from openlatch.store.lists_reviews import ITEMS
from openlatch.store.tables import Item, JournalEntry, Organisation, Person, Question, Round, Schedule, Step, Team

CSV = "items.csv"
_ITEM_ACTIONS = (
    "item.decided", "item.seconded", "item.sent_back", "item.undone", "item.passed_on", "item.asked", "item.answered",
    "item.settled", "item.not_carried_out", "item.explained", "item.retried",
)  # fmt: skip


def bundled(unit: Unit, ident: UUID, schema: bytes) -> tuple[str, bytes]:
    """The bundle of a round that has ended, with a name for its file. Conflict while it has not ended.

    ``schema`` is the JSON Schema of its evidence, which goes into it. Made anew from what can't change any more, it
    is the same every time.
    """
    unit.sight.require_administrator()
    row = unit.db.get(Round, ident)
    if row is None:
        raise NotFound("There is no such round.")
    if row.ended_at is None:
        raise Conflict(
            "The round has not ended: there is evidence once all that was decided has been carried out.",
            "Close it; or look at what is still to be carried out.",
        )
    found = _evidence(unit, row)
    entries = _entries(unit, row)
    last = entries[-1]
    members = {
        bundle.EVIDENCE: orjson.dumps(found, option=orjson.OPT_INDENT_2),
        CSV: _csv(found),
        "report.html": report.html(found, last).encode(),
        "report.pdf": report.pdf(found, last),
        bundle.JOURNAL: b"".join(orjson.dumps(entry) + b"\n" for entry in entries),
        "evidence.schema.json": schema,
    }
    manifest = {
        "format": bundle.FORMAT,
        "version": bundle.VERSION,
        "round": {"id": str(row.id), "name": row.name},
        "organisation": found["organisation"],
        "items": len(found["items"]),
        "items_hash": found["items_hash"],
        "journal": {"position": last["position"], "hash": last["hash"]},
        "files": bundle.describe(members),
        "key": signing.public(unit.service, signing.EVIDENCE),
    }
    written = orjson.dumps(manifest, option=orjson.OPT_INDENT_2)
    signature = signing.key(unit.service, signing.EVIDENCE).sign(written)
    return f"evidence-{row.ended_at:%Y-%m-%d}-{str(row.id)[-8:]}.zip", bundle.pack(
        {bundle.MANIFEST: written, bundle.SIGNATURE: signature, **members}
    )


def _at(instant: datetime | None) -> str | None:
    return instant.astimezone(UTC).isoformat(timespec="seconds").replace("+00:00", "Z") if instant else None


def _name(unit: Unit, person: UUID | None) -> str | None:
    return unit.db.get_one(Person, person).name if person else None


def _evidence(unit: Unit, row: Round) -> dict[str, Any]:
    organisation = unit.db.get_one(Organisation, row.organisation_id)
    schedule = unit.db.get(Schedule, row.schedule_id) if row.schedule_id else None
    page = rounds.page(unit, row.id)
    proofs, questions = _proofs(unit, row.id), _questions(unit, row.id)
    listed = ITEMS.all(unit.db, "", [Item.round_id == row.id])
    items = [_item(one, proofs, questions) for one in sorted(listed, key=lambda one: int(one["position"]))]
    return {
        "format": bundle.FORMAT,
        "version": bundle.VERSION,
        "organisation": {"id": str(organisation.id), "name": organisation.name},
        "round": {
            "id": str(row.id),
            "name": row.name,
            "schedule": schedule.name if schedule else None,
            "event": row.event,
            "opened_at": _at(row.opened_at),
            "opened_by": _name(unit, row.opened_by_id),
            "due_at": _at(row.due_at),
            "closed_at": _at(row.closed_at),
            "closed_by": _name(unit, row.closed_by_id),
            "ended_at": _at(row.ended_at),
        },
        "scope": {
            "filter": row.scope,
            "covers": row.covers,
            "reviewers": [_place(unit, place) for place in row.reviewers],
            "acts": row.acts,
            "undecided": row.undecided,
            "second_from": row.second_from,
        },
        "completeness": _completeness(row, len(items)),
        "totals": {
            "kept": page["kept"],
            "trimmed": page["trimmed"],
            "revoked": page["revoked"],
            "left_undecided": page["left_undecided"],
            "seconded": sum(item["decision"]["seconded_by"] is not None for item in items),
            "explained": sum(bool(item["carried_out"]["explained"]) for item in items),
            "by_default": page["by_default"],
        },
        "reviewers": [
            {name: one[name] for name in ("name", "items", "decided", "kept", "share_kept", "seconds_between")}
            for one in page["reviewers_progress"]
        ],
        "exceptions": [found for item in items for found in _exceptions(item)],
        "items": items,
        "items_hash": row.items_hash.hex() if row.items_hash else "",
    }


def _place(unit: Unit, place: dict[str, Any]) -> dict[str, Any]:
    """A place in the line of those who were asked, with the name of the person or the team."""
    name = None
    if place["kind"] == "person":
        name = unit.db.get_one(Person, UUID(place["id"])).name
    elif place["kind"] == "team":
        name = unit.db.get_one(Team, UUID(place["id"])).name
    return {**place, "name": name}


def _completeness(row: Round, count: int) -> dict[str, Any]:
    parts = []
    for kind in row.population:
        more = f", and {kind['urgent']} besides, opened in an emergency or named" if kind["urgent"] else ""
        parts.append(f"of {kind['live']} live items of the kind {kind['kind']} the filter took {kind['matched']}{more}")
    statement = (
        f"On {row.opened_at.astimezone(UTC):%-d %B %Y at %H:%M} UTC, in one transaction, {'; '.join(parts)}. "
        f"Together that is {count} items; each of them is in this evidence."
    )
    return {"statement": statement, "population": row.population, "items": count}


def _item(one: dict[str, Any], proofs: dict[UUID, Any], questions: dict[UUID, Any]) -> dict[str, Any]:
    def named(name: str) -> str | None:
        return one[name]["name"] if one[name] else None

    return {
        "position": one["position"],
        "kind": one["kind"],
        "subject_id": str(one["subject_id"]),
        "account": one["account"]["name"] if one["account"] else one["facts"]["account"]["name"],
        "holder": one["holder"]["name"],
        "level": one["level"],
        "reviewer": named("reviewer") or named("reviewer_team"),
        "assigned_as": one["assigned_as"],
        "facts": one["facts"],
        "decision": {
            "verdict": one["verdict"],
            "reason": one["reason"],
            "by": named("decided_by") or (None if one["fate"] else "Open Latch"),
            "at": _at(one["decided_at"]),
            "fate": one["fate"],
            "trim_level": named("trim_level"),
            "trim_until": _at(one["trim_until"]),
            "successor": named("successor"),
            "seconded_by": named("seconded_by"),
            "seconded_at": _at(one["seconded_at"]),
        },
        "carried_out": {
            "outcome": one["outcome"],
            "explained": one["explained"],
            "at": _at(one["done_at"]),
            "revocation": str(one["revocation_id"]) if one["revocation_id"] else None,
            "proof": proofs.get(one["revocation_id"], []),
        },
        "questions": questions.get(one["id"], []),
    }


def _proofs(unit: Unit, ident: UUID) -> dict[UUID, list[dict[str, Any]]]:
    """The steps of every revocation of a round, with what the systems answered."""
    revocations = select(Item.revocation_id).where(Item.round_id == ident, Item.revocation_id.is_not(None))
    found: dict[UUID, list[dict[str, Any]]] = defaultdict(list)
    rows = unit.db.execute(
        select(Step.revocation_id, Step.sentence, Step.answer, Step.done_at)
        .where(Step.revocation_id.in_(revocations))
        .order_by(Step.revocation_id, Step.position)
    )
    for revocation, sentence, answer, at in rows:
        found[revocation].append({"step": sentence, "answer": answer, "at": _at(at)})
    return found


def _questions(unit: Unit, ident: UUID) -> dict[UUID, list[dict[str, Any]]]:
    found: dict[UUID, list[dict[str, Any]]] = defaultdict(list)
    rows = unit.db.execute(
        select(Question.item_id, Person.name, Question.question, Question.answer, Question.answered_at)
        .join(Item, Item.id == Question.item_id)
        .join(Person, Person.id == Question.person_id)
        .where(Item.round_id == ident)
        .order_by(Question.asked_at, Question.id)
    )
    for item, of, question, answer, at in rows:
        found[item].append({"of": of, "question": question, "answer": answer, "answered_at": _at(at)})
    return found


def _exceptions(item: dict[str, Any]) -> list[dict[str, Any]]:
    """What an auditor will want to look at."""
    decision, flags = item["decision"], item["facts"].get("flags", [])
    found = []
    if decision["fate"]:
        found.append(f"Nobody decided; by the schedule: {decision['fate']}.")
    elif decision["verdict"] == "keep" and any(flag["severity"] >= Severity.HIGH for flag in flags):
        found.append(f"Kept although highly flagged: {decision['reason']}")
    if item["carried_out"]["explained"]:
        found.append(f"Not shown to be carried out: {item['carried_out']['explained']}")
    return [{"position": item["position"], "what": what} for what in found]


def _entries(unit: Unit, row: Round) -> list[dict[str, Any]]:
    """The journal's entries about a round and its items, as they were sealed, the last one that of its end."""
    ids = select(Item.id).where(Item.round_id == row.id)
    about = or_(JournalEntry.subject_id == row.id, JournalEntry.subject_id.in_(ids))
    wanted = about & (JournalEntry.action.in_(_ITEM_ACTIONS) | JournalEntry.action.like("round.%"))
    return list(journal.export(unit.db, unit.viewer.organisation, wanted))


COLUMNS = (
    "position", "kind", "account", "holder", "level", "reviewer", "assigned_as", "verdict", "reason", "by", "at",
    "undecided", "trim_level", "trim_until", "seconded_by", "outcome", "explained", "done_at",
)  # fmt: skip


def _csv(found: dict[str, Any]) -> bytes:
    """The items by RFC 4180, with nothing that a spreadsheet would take for a formula."""
    target = io.StringIO()
    writer = csv.writer(target)
    writer.writerow(COLUMNS)
    for item in found["items"]:
        decision, done = item["decision"], item["carried_out"]
        flat = {
            **{name: item.get(name) for name in COLUMNS[:7]},
            **{name: decision.get(name) for name in COLUMNS[7:]},
            "undecided": decision["fate"],
            "outcome": done["outcome"],
            "explained": done["explained"],
            "done_at": done["at"],
        }
        writer.writerow([guarded("" if flat[name] is None else str(flat[name])) for name in COLUMNS])
    return target.getvalue().encode()
