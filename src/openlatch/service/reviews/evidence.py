"""The evidence of a review that has ended: one bundle that says what was reviewed, decided and carried out."""

from __future__ import annotations

import csv
import io
import zipfile
from collections import defaultdict
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from uuid import UUID

import orjson
from sqlalchemy import ColumnElement, delete, func, or_, select

from openlatch.core.files.csv_safety import guarded
from openlatch.core.reviews import evidence_bundle
from openlatch.core.vocabulary import HolderKind, Proof, Severity, Verdict
from openlatch.errors import Conflict, NotFound
from openlatch.json_values import JsonObject, JsonView
from openlatch.languages import ENGLISH
from openlatch.languages.catalogue import catalogue_of, known
from openlatch.service import signing_keys
from openlatch.service.journal import entries, signed_heads
from openlatch.service.reviews import report, rounds
from openlatch.service.reviews.report_words import Say
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store import journal
from openlatch.store.archive import Which
from openlatch.store.database import alone
from openlatch.store.lists.reviews import ITEMS
from openlatch.store.tables import (
    EvidenceBundle,
    Item,
    JournalEntry,
    Organisation,
    Person,
    Question,
    Round,
    Schedule,
    Step,
    Team,
)

CSV, SCHEMA = "items.csv", "evidence.schema.json"
# The database returns keys in another order.
_IN_ORDER = orjson.OPT_INDENT_2 | orjson.OPT_SORT_KEYS
_ITEM_ACTIONS = (
    "item.decided",
    "item.seconded",
    "item.sent_back",
    "item.undone",
    "item.passed_on",
    "item.asked",
    "item.answered",
    "item.settled",
    "item.not_carried_out",
    "item.explained",
    "item.retried",
    "item.contradicted",
)


def kept(unit: Unit, ident: UUID) -> tuple[str, bytes] | None:
    """The bundle of an ended round as signed by the worker, with a file name.

    None while it still has to be signed, or signed again with later findings; the worker is woken then. Conflict while
    the round has not ended.
    """
    row = _ended(unit, ident)
    found = _current(unit, row)
    if found is None:
        unit.wake("sign_evidence", round=ident)
    return (found.name, found.content) if found is not None else None


def _current(unit: Unit, row: Round) -> EvidenceBundle | None:
    """The stored bundle, unless something became known since."""
    found = unit.db.scalars(select(EvidenceBundle).where(EvidenceBundle.round_id == row.id)).first()
    return found if found is not None and found.addenda == _count_addenda(unit, row) else None


def _count_addenda(unit: Unit, row: Round) -> int:
    return len(_addenda(unit, row, _last_position(unit, row)))


def sign(service: Service, viewer: Viewer, ident: UUID, schema: bytes) -> None:
    """Sign the bundle of an ended round and replace the stored one. For the worker."""
    with alone(service.engine, f"evidence {ident}") as only_us:
        if not only_us:
            return
        with service.unit(viewer) as unit:
            row = _ended(unit, ident)
            if _current(unit, row) is not None:
                return
            addenda = _count_addenda(unit, row)
            before = unit.db.scalar(select(EvidenceBundle.content).where(EvidenceBundle.round_id == ident))
            name, content = bundled(unit, ident, schema, before)
            unit.db.execute(delete(EvidenceBundle).where(EvidenceBundle.round_id == ident))
            unit.db.add(
                EvidenceBundle(
                    organisation_id=viewer.organisation, round_id=ident, name=name, addenda=addenda, content=content
                )
            )


def _last_position(unit: Unit, row: Round) -> int:
    found = unit.db.scalar(select(func.max(JournalEntry.position)).where(_about(row)))
    if found is None:
        # Those about its items are before the last about itself.
        archived = _archived_or_not(unit, Which(subjects=frozenset({row.id})))
        found = max((int(entry["position"]) for entry in archived), default=0)
    return found


def _archived_or_not(unit: Unit, which: Which) -> Iterator[JsonObject]:
    return entries.every(unit.service, unit.db, unit.viewer.organisation, which)


def _ended(unit: Unit, ident: UUID) -> Round:
    unit.sight.require_administrator()
    row = unit.db.get(Round, ident)
    if row is None:
        raise NotFound("There is no such round.")
    if row.ended_at is None:
        raise Conflict(
            "The round has not ended: there is evidence once all that was decided has been carried out.",
            "Close it; or look at what is still to be carried out.",
        )
    return row


def _reports(found: JsonView, last: JsonView, addenda: Sequence[JsonView]) -> dict[str, bytes]:
    """The report for people, in each language: as a page, and as PDF where the packages that draw it are installed."""
    reports: dict[str, bytes] = {}
    for language in known():
        catalogue = catalogue_of(language)
        say = catalogue.say if catalogue is not None else str
        name = "report" if language == ENGLISH else f"report-{language}"
        reports[f"{name}.html"] = report.html(found, last, addenda, say, language).encode()
        reports |= {f"{name}.pdf": drawn for drawn in _pdf(found, last, addenda, say, language)}
    return reports


def _pdf(found: JsonView, last: JsonView, addenda: Sequence[JsonView], say: Say, language: str) -> list[bytes]:
    try:
        from openlatch.service.reviews import report_pdf
    except ModuleNotFoundError as error:
        if error.name not in ("fpdf", "font_source_sans_pro"):
            raise
        return []
    return [report_pdf.pdf(found, last, addenda, say, language)]


def bundled(unit: Unit, ident: UUID, schema: bytes, before: bytes | None = None) -> tuple[str, bytes]:
    """The signed bundle of an ended round, with a file name. Conflict while it has not ended.

    ``schema`` is the JSON Schema of its evidence, which is included. What was signed ``before`` never changes, whatever
    happened to the records since; later findings are added as addenda and in the report.
    """
    row = _ended(unit, ident)
    assert row.ended_at is not None
    fixed = _as_signed(before) if before is not None else _as_recorded(unit, row, schema)
    found = orjson.loads(fixed[evidence_bundle.EVIDENCE])
    last = orjson.loads(fixed[evidence_bundle.JOURNAL].splitlines()[-1])
    addenda = _addenda(unit, row, int(last["position"]))
    members = {
        evidence_bundle.EVIDENCE: fixed[evidence_bundle.EVIDENCE],
        CSV: fixed[CSV],
        **_reports(found, last, addenda),
        evidence_bundle.JOURNAL: fixed[evidence_bundle.JOURNAL],
        evidence_bundle.HEAD: orjson.dumps(signed_heads.proof_for(unit, int(last["position"])), option=_IN_ORDER),
        SCHEMA: fixed[SCHEMA],
    }
    if addenda:
        since = {"format": "openlatch-review-addenda", "version": 1, "round": str(row.id), "addenda": addenda}
        members[evidence_bundle.ADDENDA] = orjson.dumps(since, option=orjson.OPT_INDENT_2)
    manifest = {
        "format": evidence_bundle.FORMAT,
        "version": evidence_bundle.VERSION,
        "round": {"id": str(row.id), "name": row.name},
        "organisation": found["organisation"],
        "items": len(found["items"]),
        "items_hash": found["items_hash"],
        "addenda": len(addenda),
        "journal": {"position": last["position"], "hash": last["hash"]},
        "files": evidence_bundle.describe(members),
        "key": signing_keys.public(unit.service, signing_keys.EVIDENCE),
    }
    written = orjson.dumps(manifest, option=orjson.OPT_INDENT_2)
    signature = signing_keys.key(unit.service, signing_keys.EVIDENCE).sign(written)
    return f"evidence-{row.ended_at:%Y-%m-%d}-{str(row.id)[-8:]}.zip", evidence_bundle.pack(
        {evidence_bundle.MANIFEST: written, evidence_bundle.SIGNATURE: signature, **members}
    )


def _as_recorded(unit: Unit, row: Round, schema: bytes) -> dict[str, bytes]:
    """The immutable part of a bundle, from the present records."""
    found = _evidence(unit, row)
    told = b"".join(orjson.dumps(entry) + b"\n" for entry in _entries(unit, row))
    written = orjson.dumps(found, option=orjson.OPT_INDENT_2)
    return {evidence_bundle.EVIDENCE: written, CSV: _csv(found), evidence_bundle.JOURNAL: told, SCHEMA: schema}


def _as_signed(before: bytes) -> dict[str, bytes]:
    """The immutable part of a signed bundle."""
    with zipfile.ZipFile(io.BytesIO(before)) as archive:
        return {name: archive.read(name) for name in (evidence_bundle.EVIDENCE, CSV, evidence_bundle.JOURNAL, SCHEMA)}


def _at(instant: datetime | None) -> str | None:
    return instant.astimezone(UTC).isoformat(timespec="seconds").replace("+00:00", "Z") if instant else None


def _name(unit: Unit, person: UUID | None) -> str | None:
    return unit.db.get_one(Person, person).name if person else None


def _evidence(unit: Unit, row: Round) -> JsonObject:
    organisation = unit.db.get_one(Organisation, row.organisation_id)
    schedule = unit.db.get(Schedule, row.schedule_id) if row.schedule_id else None
    page = rounds.page(unit, row.id)
    proofs, questions = _proofs(unit, row.id), _questions(unit, row.id)
    listed = ITEMS.all(unit.db, "", [Item.round_id == row.id])
    items = [_item(one, proofs, questions) for one in sorted(listed, key=lambda one: int(one["position"]))]
    return {
        "format": evidence_bundle.FORMAT,
        "version": evidence_bundle.VERSION,
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
            "undecided_by": row.fates_by,
            "second_from": row.second_from,
        },
        "completeness": _completeness(row, len(items)),
        "totals": {
            "kept": page.kept,
            "trimmed": page.trimmed,
            "revoked": page.revoked,
            "nothing_done": page.nothing_done,
            "ended": {proof.value: getattr(page, proof.value) for proof in Proof},
            "by_default": page.left_undecided,
            "to_administrators": page.by_default,
            "seconded": sum(item["decision"]["seconded_by"] is not None for item in items),
            "explained": sum(bool(item["carried_out"]["explained"]) for item in items),
        },
        "reviewers": [one.model_dump(include=_OF_REVIEWERS) for one in page.reviewers_progress],
        "exceptions": [found for item in items for found in _exceptions(item, row.fates_by)],
        "coverage": row.coverage,
        "items": items,
        "items_hash": row.items_hash.hex() if row.items_hash else "",
    }


def _place(unit: Unit, place: JsonObject) -> JsonObject:
    """A place in the line of reviewers, with the name of the person or team."""
    name = None
    if place["kind"] == HolderKind.PERSON:
        name = unit.db.get_one(Person, UUID(place["id"])).name
    elif place["kind"] == HolderKind.TEAM:
        name = unit.db.get_one(Team, UUID(place["id"])).name
    return {**place, "name": name}


def _completeness(row: Round, count: int) -> JsonObject:
    parts = []
    for kind in row.population:
        more = f", and {kind['urgent']} besides, opened in an emergency or named" if kind["urgent"] else ""
        parts.append(f"of {kind['live']} live items of the kind {kind['kind']} the filter took {kind['matched']}{more}")
    statement = (
        f"On {row.opened_at.astimezone(UTC):%-d %B %Y at %H:%M} UTC, in one transaction, {'; '.join(parts)}. "
        f"Together that is {count} items; each of them is in this evidence."
    )
    return {"statement": statement, "population": row.population, "items": count}


def _item(one: JsonObject, proofs: dict[UUID, list[JsonObject]], questions: dict[UUID, list[JsonObject]]) -> JsonObject:
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
            "trim_to_use": one["trim_to_use"],
            "successor": named("successor"),
            "seconded_by": named("seconded_by"),
            "seconded_at": _at(one["seconded_at"]),
        },
        "carried_out": {
            "outcome": one["outcome"],
            "explained": one["explained"],
            "at": _at(one["done_at"]),
            "revocation": str(one["revocation_id"]) if one["revocation_id"] else None,
            "nothing_done": one["nothing_done"],
            "proof": one["proof"],
            "proved_at": _at(one["proved_at"]),
            "proved_by": one["proved_by"],
            "words": one["proof_words"],
            "steps": proofs.get(one["revocation_id"], []),
        },
        "questions": questions.get(one["id"], []),
    }


def _proofs(unit: Unit, ident: UUID) -> dict[UUID, list[JsonObject]]:
    """The steps of every revocation of a round, with the systems' answers."""
    revocations = select(Item.revocation_id).where(Item.round_id == ident, Item.revocation_id.is_not(None))
    found: dict[UUID, list[JsonObject]] = defaultdict(list)
    rows = unit.db.execute(
        select(Step.revocation_id, Step.sentence, Step.state, Step.answer, Step.done_by, Step.done_at)
        .where(Step.revocation_id.in_(revocations))
        .order_by(Step.revocation_id, Step.position)
    )
    for revocation, sentence, state, answer, by, at in rows:
        found[revocation].append({"step": sentence, "state": state, "answer": answer, "by": by, "at": _at(at)})
    return found


def _questions(unit: Unit, ident: UUID) -> dict[UUID, list[JsonObject]]:
    found: dict[UUID, list[JsonObject]] = defaultdict(list)
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


def _exceptions(item: JsonObject, fates_by: str) -> list[JsonObject]:
    """What an auditor will want to see."""
    decision, flags, done = item["decision"], item["facts"].get("flags", []), item["carried_out"]
    found = []
    if decision["fate"]:
        found.append(f"Nobody decided; {fates_by}: {decision['fate']}.")
    elif decision["verdict"] == Verdict.KEEP and any(flag["severity"] >= Severity.HIGH for flag in flags):
        found.append(f"Kept although highly flagged: {decision['reason']}")
    if done["explained"]:
        found.append(f"Not shown to be carried out: {done['explained']}")
    if done["proof"] not in (None, Proof.CONFIRMED) or item["carried_out"]["nothing_done"]:
        found.append(done["outcome"])
    return [{"position": item["position"], "what": what} for what in found]


def _entries(unit: Unit, row: Round) -> list[JsonObject]:
    """The journal's entries about a round and its items, as sealed; the last is about its end.

    They are in the database: nothing goes into the archive that evidence is yet to be signed of.
    """
    return list(journal.export(unit.db, unit.viewer.organisation, _about(row)))


def _about(row: Round) -> ColumnElement[bool]:
    ids = select(Item.id).where(Item.round_id == row.id)
    about = or_(JournalEntry.subject_id == row.id, JournalEntry.subject_id.in_(ids))
    return about & (JournalEntry.action.in_(_ITEM_ACTIONS) | JournalEntry.action.like("round.%"))


def _addenda(unit: Unit, row: Round, position: int) -> list[JsonObject]:
    """What a later reading showed of things that the review had ended, oldest first."""
    named = unit.db.execute(
        select(Item.position, Item.grant_id, Item.subject_id).where(
            Item.round_id == row.id, Item.verdict != Verdict.KEEP
        )
    ).all()
    items = {item.grant_id or item.subject_id: item.position for item in named}
    about = Which(after=position, actions=_CONTRADICTING, subjects=frozenset(items))
    return [
        {
            "item": items[UUID(entry["subject"]["id"])],
            "at": entry["at"],
            "what": f"Contradicted: a reading of {entry['facts']['system']} shows it. "
            f"Before, its end was {entry['facts']['before']}.",
            "journal_position": entry["position"],
        }
        for entry in _archived_or_not(unit, about)
    ]


_CONTRADICTING = frozenset({"grant.contradicted", "session.contradicted", "resource.contradicted"})
_OF_REVIEWERS = {"name", "items", "by_default", "by_others", "decided", "kept", "share_kept", "seconds_between"}
COLUMNS = (
    "position",
    "kind",
    "account",
    "holder",
    "level",
    "reviewer",
    "assigned_as",
    "verdict",
    "reason",
    "by",
    "at",
    "undecided",
    "trim_level",
    "trim_until",
    "seconded_by",
    "outcome",
    "proof",
    "proved_at",
    "proved_by",
    "words",
    "explained",
    "done_at",
)


def _csv(found: JsonObject) -> bytes:
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
            **{name: done[name] for name in ("proof", "proved_at", "proved_by", "words")},
            "explained": done["explained"],
            "done_at": done["at"],
        }
        writer.writerow([guarded("" if flat[name] is None else str(flat[name])) for name in COLUMNS])
    return target.getvalue().encode()
