"""The calls by which records are kept by hand. ``Client`` has them all."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any
from uuid import UUID

from openlatch import schemas
from openlatch.client.asking import Asking


class Keeping(Asking):
    """Making, editing, archiving, removing and merging records, and recording access that exists.

    ``kind`` is one of people, teams, memberships, accounts, resources, groups and apps.
    """

    def make_record(self, kind: str, values: Mapping[str, Any]) -> schemas.Record[Any]:
        """Make a record from what its form holds."""
        return self._record(kind, "POST", f"/{kind}", schemas.FORMS[kind].model_validate(dict(values)))

    def record(self, kind: str, ident: UUID) -> schemas.Record[Any]:
        """A record as it is edited: its values, and what depends on it."""
        return self._record(kind, "GET", f"/{kind}/{ident}/record")

    def edit_record(
        self, kind: str, ident: UUID, changes: Mapping[str, Any], version: int | None = None
    ) -> schemas.Record[Any]:
        """Change some fields. CallFailed with status 412 when somebody changed it since ``version``."""
        body = schemas.changes_of(schemas.FORMS[kind]).model_validate(dict(changes))
        return self._record(kind, "PATCH", f"/{kind}/{ident}", body, version)

    def remove_record(self, kind: str, ident: UUID, version: int | None = None) -> None:
        """Remove a record to which nothing refers."""
        self._ask(schemas.Done, "DELETE", f"/{kind}/{ident}", None, version)

    def archive_record(self, kind: str, ident: UUID, is_archived: bool = True) -> schemas.Record[Any]:
        """Put a record away, or take it out again."""
        return self._record(kind, "PUT" if is_archived else "DELETE", f"/{kind}/{ident}/archived")

    def _record(
        self, kind: str, method: str, path: str, body: Any = None, version: int | None = None
    ) -> schemas.Record[Any]:
        model: Any = schemas.FORMS[kind]
        found: schemas.Record[Any] = self._ask(schemas.Record[model], method, path, body, version)
        return found

    def preview_edits(self, kind: str, ids: Iterable[UUID], changes: Mapping[str, Any]) -> schemas.EditManyPreview:
        """What the same change to several records would do."""
        return self._ask(schemas.EditManyPreview, "POST", f"/{kind}/edits/preview", _many(kind, ids, changes))

    def edit_records(
        self, kind: str, ids: Iterable[UUID], changes: Mapping[str, Any], fingerprint: str = ""
    ) -> schemas.EditManyPreview:
        """Change several records alike; what is refused for one leaves the others."""
        return self._ask(schemas.EditManyPreview, "POST", f"/{kind}/edits", _many(kind, ids, changes, fingerprint))

    def team(self, ident: UUID) -> schemas.TeamPage:
        """A team with its members."""
        return self._ask(schemas.TeamPage, "GET", f"/teams/{ident}")

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


def _many(kind: str, ids: Iterable[UUID], changes: Mapping[str, Any], fingerprint: str = "") -> Any:
    model: Any = schemas.changes_of(schemas.FORMS[kind])
    wish = {"ids": list(ids), "set": model.model_validate(dict(changes)), "fingerprint": fingerprint}
    return schemas.EditMany[model].model_validate(wish)
