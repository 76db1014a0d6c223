"""The calls by which records are kept by hand: the same for every kind."""

from __future__ import annotations

import dataclasses
import tempfile
from collections.abc import Callable, Iterator, Mapping
from typing import Any, BinaryIO, cast
from uuid import UUID

import orjson
from flask import Response, request
from pydantic import BaseModel

from openlatch import schemas
from openlatch.api.routing import api, if_match, the_service, viewer
from openlatch.core.vocabulary import HolderKind
from openlatch.errors import BadInput
from openlatch.service import imports
from openlatch.service.records import edit as record_edit
from openlatch.service.records import existing_access, file_columns, whole_register
from openlatch.service.records import merge as record_merge
from openlatch.service.records.existing_access import Known
from openlatch.service.unit import Unit

# A kind's noun, with its article.
NOUNS = {
    "people": "a person",
    "teams": "a team",
    "memberships": "a membership",
    "accounts": "an account",
    "resources": "a resource",
    "groups": "a group of resources",
    "apps": "an app",
}
ARCHIVED = ("teams", "accounts", "resources", "groups", "apps")
# Kinds that can be edited in bulk.
MANY = ("people", "teams", "memberships", "accounts", "resources", "apps")


LARGEST_IMPORT = 4 << 30

# Bytes of a file read for recognising its columns.
LARGEST_LOOK = 1 << 20


def _values(body: BaseModel, form: type[BaseModel]) -> Mapping[str, object]:
    """What a merge patch sets: null empties a field. BadInput where a field can't be empty."""
    given = body.model_dump(exclude_unset=True)
    empty = {name: field.get_default(call_default_factory=True) for name, field in form.model_fields.items()}
    needed = [name for name, value in given.items() if value is None and form.model_fields[name].is_required()]
    if needed:
        raise BadInput(f"{needed[0]} can't be empty.", "Give it, or leave it out.", {needed[0]: "is needed"})
    return {name: empty[name] if value is None else value for name, value in given.items()}


def _add(kind: str) -> None:
    form, noun = schemas.FORMS[kind], NOUNS[kind]
    changes, record = schemas.changes_of(form), schemas.Record[form]  # type: ignore[valid-type]
    one, word = f"/{kind}/<uuid:ident>", record_edit.KINDS[kind].noun

    def put(name: str, handler: Callable[..., Any], about: str, *route: Any, **more: Any) -> None:
        handler.__name__, handler.__doc__ = f"{name}_{word}", about
        api.add(*route, **more)(handler)

    def make(unit: Unit, body: BaseModel) -> record_edit.Record:
        return record_edit.make(unit, kind, body.model_dump())

    def show(unit: Unit, ident: UUID) -> record_edit.Record:
        return record_edit.shown(unit, kind, ident)

    def edit(unit: Unit, ident: UUID, body: BaseModel) -> record_edit.Record:
        return record_edit.change(unit, kind, ident, _values(body, form), if_match())

    def remove(unit: Unit, ident: UUID) -> schemas.Done:
        record_edit.remove(unit, kind, ident, if_match())
        return schemas.Done(done=True)

    put(
        "make",
        make,
        "It is checked field by field; what is wrong is named by its field.",
        "POST",
        f"/{kind}",
        f"Make {noun}",
        record,
        body=form,
        status=201,
    )
    put(
        "get_record_of",
        show,
        "Its values as a form holds them, and what depends on it.",
        "GET",
        f"{one}/record",
        f"Show {noun} as it is edited",
        record,
    )
    put(
        "edit",
        edit,
        "A JSON merge patch (RFC 7396): what is left out stays as it is.",
        "PATCH",
        one,
        f"Edit {noun}",
        record,
        body=changes,
    )
    put(
        "remove",
        remove,
        "Only while nothing refers to it; otherwise the answer lists what does.",
        "DELETE",
        one,
        f"Remove {noun}",
        schemas.Done,
    )
    if kind in ARCHIVED:
        _add_archive(kind, word, one, noun, record)
    if kind in MANY:
        _add_many(kind, word, form, changes)


def _add_archive(kind: str, word: str, one: str, noun: str, record: type[BaseModel]) -> None:
    def archive(unit: Unit, ident: UUID) -> record_edit.Record:
        """Put away: out of lists and choices, with its history. Only while no access hangs on it."""
        return record_edit.archive(unit, kind, ident, True)

    def unarchive(unit: Unit, ident: UUID) -> record_edit.Record:
        """Back among the others."""
        return record_edit.archive(unit, kind, ident, False)

    archive.__name__, unarchive.__name__ = f"archive_{word}", f"unarchive_{word}"
    api.add("PUT", f"{one}/archived", f"Archive {noun}", record)(archive)
    api.add("DELETE", f"{one}/archived", f"Take {noun} out of the archive", record)(unarchive)


def _add_many(kind: str, word: str, form: type[BaseModel], changes: type[BaseModel]) -> None:
    model = schemas.EditMany[changes]  # type: ignore[valid-type]

    def preview_edit(unit: Unit, body: schemas.EditMany[BaseModel]) -> schemas.EditManyPreview:
        """Each with what would change, or why it is refused. Nothing happens yet."""
        return record_edit.change_many(unit, kind, body.ids, _values(body.set, form), only_preview=True)

    def edit_many(unit: Unit, body: schemas.EditMany[BaseModel]) -> schemas.EditManyPreview:
        """What is refused for one leaves the others."""
        return record_edit.change_many(unit, kind, body.ids, _values(body.set, form), False, body.fingerprint)

    preview_edit.__name__, edit_many.__name__ = f"preview_edit_of_{kind}", f"edit_{kind}"
    answer = schemas.EditManyPreview
    api.add("POST", f"/{kind}/edits/preview", f"What editing several {kind} would do", answer, body=model)(preview_edit)
    api.add("POST", f"/{kind}/edits", f"Edit several {kind}", answer, body=model)(edit_many)


for _kind in schemas.FORMS:
    _add(_kind)


def _add_merge(kind: str) -> None:
    def preview_merge(unit: Unit, body: schemas.MergeWish) -> schemas.MergePreview:
        """What moves, what is filled, what is lost, and where more can be done afterwards. Nothing happens yet."""
        return record_merge.preview(unit, kind, body.keep, body.drop)

    def merge(unit: Unit, body: schemas.MergeWish) -> schemas.MergeOf:
        """All references to the second record point to the first. Can be undone for thirty days."""
        return record_merge.merge(unit, kind, body.keep, body.drop, body.fingerprint)

    preview_merge.__name__, merge.__name__ = f"preview_merge_of_{kind}", f"merge_{kind}"
    api.add(
        "POST",
        f"/{kind}/merge/preview",
        f"What merging two {kind} would do",
        schemas.MergePreview,
        body=schemas.MergeWish,
    )(preview_merge)
    api.add("POST", f"/{kind}/merge", f"Merge two {kind}", schemas.MergeOf, body=schemas.MergeWish, status=201)(merge)


for _kind in record_merge.MERGEABLE:
    _add_merge(_kind)


@api.add("GET", "/merges", "The latest merges", schemas.Merges)
def get_merges(unit: Unit) -> schemas.Merges:
    """Newest first, with until when each can be undone."""
    return schemas.Merges(merges=record_merge.latest(unit))


@api.add("POST", "/merges/<uuid:ident>/undo", "Undo a merge", schemas.MergeOf)
def undo_merge(unit: Unit, ident: UUID) -> schemas.MergeOf:
    """The record is there again, and what moved with it refers to it again."""
    return record_merge.undo(unit, ident)


def _known(body: schemas.RecordAccess) -> list[Known]:
    return [
        Known(
            line.account,
            HolderKind(line.holder_kind),
            line.holder,
            line.level,
            line.resource,
            line.since,
            line.last_day,
            line.given_by,
            line.evidence,
        )
        for line in body.lines
    ]


@api.add(
    "POST",
    "/grants/record/preview",
    "What recording existing access would do",
    schemas.RecordAccessPreview,
    body=schemas.RecordAccess,
)
def preview_recording(unit: Unit, body: schemas.RecordAccess) -> schemas.RecordAccessPreview:
    """Line by line: new, the same as what is recorded, or refused and why. Nothing happens yet."""
    return existing_access.record(unit, _known(body), only_preview=True)


@api.add(
    "POST",
    "/grants/record",
    "Record existing access",
    schemas.RecordAccessPreview,
    body=schemas.RecordAccess,
    status=201,
)
def record_access(unit: Unit, body: schemas.RecordAccess) -> schemas.RecordAccessPreview:
    """Nobody is asked, and nobody is said to have given it but who is named: it is recorded by whoever calls."""
    return existing_access.record(unit, _known(body), False, body.fingerprint)


@api.add(
    "POST",
    "/imports/<kind>",
    "Bring a file of records",
    schemas.ImportReport,
    query=schemas.ImportOptions,
    streams=True,
)
def bring(unit: Unit, kind: str, query: schemas.ImportOptions) -> schemas.ImportReport:
    """The body is the file itself, CSV or JSON Lines; it is streamed to disk, not held in memory."""
    unit.sight.require_administrator()
    request.max_content_length = LARGEST_IMPORT
    with tempfile.TemporaryFile() as held:
        while block := request.stream.read(1 << 20):
            held.write(block)
        held.seek(0)
        matching = file_columns.matching_from(query.matching)
        file = cast(BinaryIO, held)
        report = imports.bring(unit, kind, query.form, file, query.keep_good, query.try_only, matching)
    if report.kept and matching and query.keep_matching:
        file_columns.keep(unit, kind, matching)
    return schemas.ImportReport.model_validate(dataclasses.asdict(report))


@api.add(
    "POST",
    "/imports/<kind>/look",
    "Look at the columns of a file",
    schemas.FileLook,
    query=schemas.FileForm,
    streams=True,
)
def look_at_file(unit: Unit, kind: str, query: schemas.FileForm) -> schemas.FileLook:
    """The body is the file, or its beginning; each column comes with the field that it is taken for."""
    unit.sight.require_administrator()
    request.max_content_length = LARGEST_LOOK
    with tempfile.TemporaryFile() as held:
        held.write(request.stream.read())
        held.seek(0)
        return file_columns.look(unit, kind, query.form, cast(BinaryIO, held))


@api.add(
    "POST",
    "/imports/<kind>/refused",
    "Take the refused lines of a file away",
    None,
    query=schemas.FileForm,
    streams=True,
)
def refused_lines(unit: Unit, kind: str, query: schemas.FileForm) -> Response:
    """As they are, each with why: a file of the same form. Nothing is kept."""
    unit.sight.require_administrator()
    request.max_content_length = LARGEST_IMPORT
    with tempfile.TemporaryFile() as held:
        while block := request.stream.read(1 << 20):
            held.write(block)
        held.seek(0)
        matching = file_columns.matching_from(query.matching)
        found = file_columns.refused(unit, kind, query.form, cast(BinaryIO, held), matching)
    mime = "text/csv; charset=utf-8" if query.form == "csv" else "application/jsonl"
    headers = {"Content-Disposition": f'attachment; filename="refused-{kind}.{query.form}"'}
    response = Response(found, content_type=mime, headers=headers)
    response.call_on_close(found.close)
    return response


@api.add("GET", "/register/schema", "The format of a whole register", None)
def register_schema(unit: Unit) -> Response:
    """As JSON Schema: what each line of the file may be."""
    return Response(orjson.dumps(whole_register.schema()), content_type="application/schema+json")


@api.add("GET", "/register/export", "Take the whole register away", None, open=True)
def export_register() -> Response:
    """As JSON Lines, of one instant, without secrets. For administrators, after a fresh proof."""
    who, service = viewer(), the_service()
    with service.unit(who) as unit:
        unit.sight.require_administrator()
        unit.require_proof("Taking the whole register away")
        if unit.viewer.may_write:
            unit.record("register.taken", "organisation", who.organisation, "The whole register")
        name = f"register-{unit.now:%Y-%m-%d}.jsonl"

    def lines() -> Iterator[bytes]:
        with service.unit(who) as unit:
            yield from whole_register.lines(unit)

    return Response(
        lines(), content_type="application/jsonl", headers={"Content-Disposition": f'attachment; filename="{name}"'}
    )


@api.add("POST", "/register/import", "Bring a whole register", schemas.RegisterBrought, status=201, streams=True)
def import_register(unit: Unit) -> schemas.RegisterBrought:
    """Into an organisation that is empty yet. The body is the file itself; all of it comes in, or nothing."""
    unit.sight.require_administrator()
    request.max_content_length = LARGEST_IMPORT
    with tempfile.TemporaryFile() as held:
        while block := request.stream.read(1 << 20):
            held.write(block)
        return whole_register.bring(unit, held)
