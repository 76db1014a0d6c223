"""Grants, levels and sessions."""

from __future__ import annotations

from uuid import UUID

from openlatch import schemas
from openlatch.client.base import Calls


class GrantsCalls(Calls):
    """Grants, levels and sessions."""

    def grant(self, ident: UUID) -> schemas.GrantRow:
        """A grant."""
        return schemas.GrantRow.model_validate(self._transport.call("GET", f"/grants/{ident}"))

    def session(self, ident: UUID) -> schemas.SessionRow:
        """A session."""
        return schemas.SessionRow.model_validate(self._transport.call("GET", f"/sessions/{ident}"))

    def make_level(self, level: schemas.MakeLevel) -> schemas.LevelRow:
        """Make a level."""
        return self._ask(schemas.LevelRow, "POST", "/levels", level)

    def preview_level(self, ident: UUID, draft: schemas.LevelDraft) -> schemas.LevelPreview:
        """Whose rights a change would make grow or shrink."""
        return self._ask(schemas.LevelPreview, "POST", f"/levels/{ident}/preview", draft)

    def change_level(
        self, ident: UUID, draft: schemas.LevelDraft, fingerprint: str = "", version: int | None = None
    ) -> schemas.LevelRow:
        """Change a level, at once for everybody who holds it."""
        body = schemas.ChangeLevel(**draft.model_dump(), fingerprint=fingerprint)
        return self._ask(schemas.LevelRow, "PUT", f"/levels/{ident}", body, version)

    def remove_level(self, ident: UUID) -> None:
        """Remove a level to which nothing refers."""
        self._ask(schemas.Done, "DELETE", f"/levels/{ident}")

    def archive_level(self, ident: UUID, is_archived: bool = True) -> None:
        """Put a level away that no live grant gives, or take it out again."""
        self._ask(schemas.Done, "PUT" if is_archived else "DELETE", f"/levels/{ident}/archived")

    def compare_levels(self, first: UUID, second: UUID) -> schemas.LevelComparison:
        """Two levels side by side."""
        params = {"first": str(first), "second": str(second)}
        return schemas.LevelComparison.model_validate(self._transport.call("GET", "/levels/compare", params=params))

    def preview_change(self, wish: schemas.ChangeWish) -> schemas.ChangePreview:
        """What a change would do to each grant."""
        return self._ask(schemas.ChangePreview, "POST", "/changes/preview", wish)

    def change(self, wish: schemas.ChangeWish) -> schemas.ChangeResult:
        """Change grants, one or many; gives a line for each."""
        return self._ask(schemas.ChangeResult, "POST", "/changes", wish)

    def grant_terms(self, ident: UUID) -> schemas.TermsNow:
        """The terms of a grant, as a change of them begins."""
        return self._ask(schemas.TermsNow, "GET", f"/grants/{ident}/terms")

    def change_many(
        self, wish: schemas.ChangeWish, only_preview: bool = False, seen: UUID | None = None
    ) -> schemas.LargeChangePage:
        """Ask for a change of more grants than one call has time for; the worker makes it."""
        body = schemas.LargeChangeWish(**wish.model_dump(exclude={"fingerprint"}), only_preview=only_preview, seen=seen)
        return self._ask(schemas.LargeChangePage, "POST", "/changes/large", body)

    def large_change(self, ident: UUID) -> schemas.LargeChangePage:
        """How far a large change is."""
        return self._ask(schemas.LargeChangePage, "GET", f"/changes/large/{ident}")

    def stop_large_change(self, ident: UUID) -> schemas.LargeChangePage:
        """Have it go no further."""
        return self._ask(schemas.LargeChangePage, "POST", f"/changes/large/{ident}/stop")

    def give_up(self, grant: UUID, reason: str = "") -> schemas.GivenUp:
        """Give up access of one's own."""
        return self._ask(schemas.GivenUp, "POST", f"/grants/{grant}/give-up", schemas.GiveUp(reason=reason))

    def end_session(self, session: UUID) -> schemas.GivenUp:
        """End a session of one's own in its system."""
        return self._ask(schemas.GivenUp, "POST", f"/sessions/{session}/end")

    def use(self, grant: UUID, days: int = 180) -> schemas.UseOf:
        """Use of a grant by permission, and the smallest level that would have covered it."""
        return self._get(schemas.UseOf, f"/grants/{grant}/use", days=days)
