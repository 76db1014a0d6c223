"""Records: made, edited, merged, imported."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any
from uuid import UUID

import httpx
from pydantic import BaseModel

from openlatch import schemas
from openlatch.client.base import Calls
from openlatch.json_values import JsonValue

# A record of any kind: its values are a form that its kind chooses.
AnyRecord = schemas.Record[Any]


class RecordsCalls(Calls):
    """Records: made, edited, merged, imported."""

    def bring(
        self,
        kind: str,
        content: Iterable[bytes],
        form: str = "csv",
        keep_good: bool = False,
        try_only: bool = False,
        matching: Mapping[str, str] | None = None,
    ) -> schemas.ImportReport:
        """Bring a file of records; ``content`` is streamed, ``matching`` says which columns are which fields."""
        params = {"form": form, "keep_good": str(keep_good).lower(), "try_only": str(try_only).lower()}
        if matching is not None:
            params |= {"matching": json.dumps(dict(matching)), "keep_matching": "true"}
        found = self._transport.call(
            "POST", f"/imports/{kind}", params=params, content=content, timeout=httpx.Timeout(60, read=3600)
        )
        return schemas.ImportReport.model_validate(found)

    def look_at_file(self, kind: str, content: bytes, form: str = "csv") -> schemas.FileLook:
        """The columns of a file, or of its beginning, each with the field that it is taken for."""
        found = self._transport.call("POST", f"/imports/{kind}/look", params={"form": form}, content=content)
        return schemas.FileLook.model_validate(found)

    def export_register(self) -> Iterator[str]:
        """The whole register, line by line, without secrets; after a fresh proof."""
        return self._transport.lines("/register/export")

    def register_schema(self) -> str:
        """The format of a whole register, as JSON Schema."""
        return self._transport.content("/register/schema").decode()

    def import_register(self, content: Iterable[bytes]) -> schemas.RegisterBrought:
        """Fill an organisation that is empty yet from a whole register."""
        found = self._transport.call("POST", "/register/import", content=content, timeout=httpx.Timeout(60, read=3600))
        return schemas.RegisterBrought.model_validate(found)

    def make_record(self, kind: str, values: Mapping[str, object]) -> AnyRecord:
        """Make a record from what its form holds."""
        return self._record(kind, "POST", f"/{kind}", schemas.FORMS[kind].model_validate(dict(values)))

    def record(self, kind: str, ident: UUID) -> AnyRecord:
        """A record as it is edited: its values, and what depends on it."""
        return self._record(kind, "GET", f"/{kind}/{ident}/record")

    def edit_record(
        self, kind: str, ident: UUID, changes: Mapping[str, object], version: int | None = None
    ) -> AnyRecord:
        """Change some fields. CallFailed with status 412 when somebody changed it since ``version``."""
        body = schemas.changes_of(schemas.FORMS[kind]).model_validate(dict(changes))
        return self._record(kind, "PATCH", f"/{kind}/{ident}", body, version)

    def remove_record(self, kind: str, ident: UUID, version: int | None = None) -> None:
        """Remove a record to which nothing refers."""
        self._ask(schemas.Done, "DELETE", f"/{kind}/{ident}", None, version)

    def archive_record(self, kind: str, ident: UUID, is_archived: bool = True) -> AnyRecord:
        """Put a record away, or take it out again."""
        return self._record(kind, "PUT" if is_archived else "DELETE", f"/{kind}/{ident}/archived")

    def _record(
        self, kind: str, method: str, path: str, body: BaseModel | None = None, version: int | None = None
    ) -> AnyRecord:
        model: JsonValue = schemas.FORMS[kind]
        found: AnyRecord = self._ask(schemas.Record[model], method, path, body, version)
        return found

    def preview_edits(self, kind: str, ids: Iterable[UUID], changes: Mapping[str, object]) -> schemas.EditManyPreview:
        """What the same change to several records would do."""
        return self._ask(schemas.EditManyPreview, "POST", f"/{kind}/edits/preview", _many(kind, ids, changes))

    def edit_records(
        self, kind: str, ids: Iterable[UUID], changes: Mapping[str, object], fingerprint: str = ""
    ) -> schemas.EditManyPreview:
        """Change several records alike; what is refused for one leaves the others."""
        return self._ask(schemas.EditManyPreview, "POST", f"/{kind}/edits", _many(kind, ids, changes, fingerprint))

    def preview_merge(self, kind: str, keep: UUID, drop: UUID) -> schemas.MergePreview:
        """What merging two records would do."""
        return self._ask(
            schemas.MergePreview, "POST", f"/{kind}/merge/preview", schemas.MergeWish(keep=keep, drop=drop)
        )

    def merge(self, kind: str, keep: UUID, drop: UUID, fingerprint: str = "") -> schemas.MergeOf:
        """Make two records one. It can be undone for thirty days."""
        body = schemas.MergeWish(keep=keep, drop=drop, fingerprint=fingerprint)
        return self._ask(schemas.MergeOf, "POST", f"/{kind}/merge", body)

    def merges(self) -> Sequence[schemas.MergeOf]:
        """The latest merges, newest first."""
        return self._ask(schemas.Merges, "GET", "/merges").merges

    def undo_merge(self, ident: UUID) -> schemas.MergeOf:
        """Take a merge back."""
        return self._ask(schemas.MergeOf, "POST", f"/merges/{ident}/undo")

    def preview_recording(self, lines: Sequence[schemas.RecordAccessLine]) -> schemas.RecordAccessPreview:
        """What recording existing access would do, line by line."""
        body = schemas.RecordAccess(lines=list(lines))
        return self._ask(schemas.RecordAccessPreview, "POST", "/grants/record/preview", body)

    def record_access(
        self, lines: Sequence[schemas.RecordAccessLine], fingerprint: str = ""
    ) -> schemas.RecordAccessPreview:
        """Record access that exists; nobody is asked."""
        body = schemas.RecordAccess(lines=list(lines), fingerprint=fingerprint)
        return self._ask(schemas.RecordAccessPreview, "POST", "/grants/record", body)


def _many(kind: str, ids: Iterable[UUID], changes: Mapping[str, object], fingerprint: str = "") -> Any:
    model: JsonValue = schemas.changes_of(schemas.FORMS[kind])
    wish = {"ids": list(ids), "set": model.model_validate(dict(changes)), "fingerprint": fingerprint}
    return schemas.EditMany[model].model_validate(wish)
