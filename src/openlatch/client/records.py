"""The calls by which records are kept by hand. ``Client`` has them all."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any
from uuid import UUID

from openlatch import wire
from openlatch.client.asking import Asking


class Keeping(Asking):
    """Making, editing, archiving, removing and merging records, and recording access that exists.

    ``kind`` is one of people, teams, memberships, accounts, resources, groups and apps.
    """

    def make_record(self, kind: str, values: Mapping[str, Any]) -> wire.Record[Any]:
        """Make a record from what its form holds."""
        return self._record(kind, "POST", f"/{kind}", wire.FORMS[kind].model_validate(dict(values)))

    def record(self, kind: str, ident: UUID) -> wire.Record[Any]:
        """A record as it is edited: its values, and what depends on it."""
        return self._record(kind, "GET", f"/{kind}/{ident}/record")

    def edit_record(
        self, kind: str, ident: UUID, changes: Mapping[str, Any], version: int | None = None
    ) -> wire.Record[Any]:
        """Change some fields. CallFailed with status 412 when somebody changed it since ``version``."""
        body = wire.changes_of(wire.FORMS[kind]).model_validate(dict(changes))
        return self._record(kind, "PATCH", f"/{kind}/{ident}", body, version)

    def remove_record(self, kind: str, ident: UUID, version: int | None = None) -> None:
        """Remove a record to which nothing refers."""
        self._ask(wire.Done, "DELETE", f"/{kind}/{ident}", None, version)

    def archive_record(self, kind: str, ident: UUID, is_archived: bool = True) -> wire.Record[Any]:
        """Put a record away, or take it out again."""
        return self._record(kind, "PUT" if is_archived else "DELETE", f"/{kind}/{ident}/archived")

    def _record(
        self, kind: str, method: str, path: str, body: Any = None, version: int | None = None
    ) -> wire.Record[Any]:
        model: Any = wire.FORMS[kind]
        found: wire.Record[Any] = self._ask(wire.Record[model], method, path, body, version)
        return found

    def preview_edits(self, kind: str, ids: Iterable[UUID], changes: Mapping[str, Any]) -> wire.EditManyPreview:
        """What the same change to several records would do."""
        return self._ask(wire.EditManyPreview, "POST", f"/{kind}/edits/preview", _many(kind, ids, changes))

    def edit_records(
        self, kind: str, ids: Iterable[UUID], changes: Mapping[str, Any], fingerprint: str = ""
    ) -> wire.EditManyPreview:
        """Change several records alike; what is refused for one leaves the others."""
        return self._ask(wire.EditManyPreview, "POST", f"/{kind}/edits", _many(kind, ids, changes, fingerprint))

    def team(self, ident: UUID) -> wire.TeamPage:
        """A team with its members."""
        return self._ask(wire.TeamPage, "GET", f"/teams/{ident}")

    def preview_merge(self, kind: str, keep: UUID, drop: UUID) -> wire.MergePreview:
        """What merging two records would do."""
        return self._ask(wire.MergePreview, "POST", f"/{kind}/merge/preview", wire.MergeWish(keep=keep, drop=drop))

    def merge(self, kind: str, keep: UUID, drop: UUID, fingerprint: str = "") -> wire.MergeOf:
        """Make two records one. It can be undone for thirty days."""
        body = wire.MergeWish(keep=keep, drop=drop, fingerprint=fingerprint)
        return self._ask(wire.MergeOf, "POST", f"/{kind}/merge", body)

    def merges(self) -> Sequence[wire.MergeOf]:
        """The latest merges, newest first."""
        return self._ask(wire.Merges, "GET", "/merges").merges

    def undo_merge(self, ident: UUID) -> wire.MergeOf:
        """Take a merge back."""
        return self._ask(wire.MergeOf, "POST", f"/merges/{ident}/undo")

    def preview_recording(self, lines: Sequence[wire.RecordAccessLine]) -> wire.RecordAccessPreview:
        """What recording existing access would do, line by line."""
        body = wire.RecordAccess(lines=list(lines))
        return self._ask(wire.RecordAccessPreview, "POST", "/grants/record/preview", body)

    def record_access(self, lines: Sequence[wire.RecordAccessLine], fingerprint: str = "") -> wire.RecordAccessPreview:
        """Record access that exists; nobody is asked."""
        body = wire.RecordAccess(lines=list(lines), fingerprint=fingerprint)
        return self._ask(wire.RecordAccessPreview, "POST", "/grants/record", body)


def _many(kind: str, ids: Iterable[UUID], changes: Mapping[str, Any], fingerprint: str = "") -> Any:
    model: Any = wire.changes_of(wire.FORMS[kind])
    wish = {"ids": list(ids), "set": model.model_validate(dict(changes)), "fingerprint": fingerprint}
    return wire.EditMany[model].model_validate(wish)
