"""What is open to outsiders."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import date, datetime
from uuid import UUID

from openlatch import schemas
from openlatch.client.base import Calls
from openlatch.json_values import JsonView


class ExposureCalls(Calls):
    """What is open to outsiders."""

    def exposure(self, ident: UUID) -> schemas.ExposurePage:
        """An exposure with its rules and its use."""
        return self._get(schemas.ExposurePage, f"/exposures/{ident}")

    def narrow_exposure(self, ident: UUID) -> schemas.RuleDraftRow:
        """Draft rules by which only the use that was seen goes on."""
        return self._ask(schemas.RuleDraftRow, "POST", f"/exposures/{ident}/narrow")

    def judge_exposures(
        self, exposures: Iterable[UUID], judgement: str, reason: str = "", last_day: date | None = None
    ) -> Sequence[schemas.ExposureRow]:
        """Judge exposures as intended, to_close, or unjudged again."""
        body = schemas.JudgeExposures.model_validate(
            {"exposures": list(exposures), "judgement": judgement, "reason": reason, "last_day": last_day}
        )
        return self._ask(schemas.ExposureRows, "POST", "/exposures/judge", body).exposures

    def preview_closing(self, exposures: Iterable[UUID]) -> schemas.ClosingPreview:
        """The rules that closing exposures would take away, and everything that they open."""
        body = schemas.CloseExposures(exposures=list(exposures))
        return self._ask(schemas.ClosingPreview, "POST", "/exposures/close/preview", body)

    def close_exposures(self, exposures: Iterable[UUID], reason: str, fingerprint: str = "") -> schemas.RevocationPage:
        """Close exposures; gives the revocation that does it."""
        body = schemas.CloseExposures(exposures=list(exposures), reason=reason, fingerprint=fingerprint)
        return self._ask(schemas.RevocationPage, "POST", "/exposures/close", body)

    def past_exposures(self, account: UUID, at: datetime, believed: datetime | None = None) -> schemas.PastExposures:
        """What was open on an account at an instant, as it was known at another."""
        query = {"account": str(account), "at": at.isoformat()}
        if believed is not None:
            query["believed"] = believed.isoformat()
        return self._get(schemas.PastExposures, "/exposures/past", **query)

    def expected_exposures(self) -> Sequence[schemas.ExpectedRow]:
        """The rules that mark exposures as expected."""
        return self._get(schemas.ExpectedRows, "/expected-exposures").rules

    def expect_exposures(self, name: str, filter_: str, reason: str) -> schemas.ExpectedRow:
        """Expect exposures by a filter over them."""
        body = schemas.AddExpected(name=name, filter=filter_, reason=reason)
        return self._ask(schemas.ExpectedRow, "POST", "/expected-exposures", body)

    def stop_expecting(self, ident: UUID) -> None:
        """Expect them no longer."""
        self._ask(schemas.Done, "DELETE", f"/expected-exposures/{ident}")

    def boundary(self) -> schemas.Boundary:
        """What counts as inside."""
        return self._get(schemas.Boundary, "/boundary")

    def preview_boundary(self, draft: schemas.BoundaryDraft) -> schemas.ExposureChanges:
        """The exposures that would come and go with another boundary."""
        return self._ask(schemas.ExposureChanges, "POST", "/boundary/preview", draft)

    def set_boundary(self, draft: schemas.BoundaryDraft) -> schemas.Boundary:
        """Set what counts as inside."""
        return self._ask(schemas.Boundary, "PUT", "/boundary", draft)

    def guards(self) -> Sequence[schemas.GuardRow]:
        """The guards against exposure."""
        return self._get(schemas.GuardRows, "/exposure-guards").guards

    def preview_guard(self, draft: schemas.GuardDraft) -> schemas.ExposureChanges:
        """What a guard would keep shut."""
        return self._ask(schemas.ExposureChanges, "POST", "/exposure-guards/preview", draft)

    def set_guard(self, wish: schemas.SetGuard) -> schemas.GuardRow:
        """Set a guard."""
        return self._ask(schemas.GuardRow, "POST", "/exposure-guards", wish)

    def preview_lifting(self, ident: UUID) -> schemas.ExposureChanges:
        """What lifting a guard would open."""
        return self._ask(schemas.ExposureChanges, "POST", f"/exposure-guards/{ident}/lift/preview")

    def set_guard_again(self, ident: UUID) -> None:
        """Set a guard again where it was switched off."""
        self._ask(schemas.Done, "POST", f"/exposure-guards/{ident}/set-again")

    def lift_guard(self, ident: UUID, reason: str, fingerprint: str = "") -> None:
        """Lift a guard."""
        body = schemas.LiftGuard(reason=reason, fingerprint=fingerprint)
        self._ask(schemas.Done, "POST", f"/exposure-guards/{ident}/lift", body)

    def rules_of(self, account: UUID) -> schemas.RulesOfAccount:
        """The access rules of an account, as a rule document."""
        return self._get(schemas.RulesOfAccount, f"/accounts/{account}/rules")

    def check_rules(self, account: UUID, document: str) -> Sequence[schemas.RuleProblem]:
        """What is wrong with a rule document for an account."""
        body = schemas.CheckRules(document=document)
        return self._ask(schemas.CheckedRules, "POST", f"/accounts/{account}/rules/check", body).problems

    def draft_rules(self, account: UUID, document: str, permissions: JsonView | None = None) -> schemas.RuleDraftRow:
        """Draft access rules for an account, to see what they would open and close."""
        body = schemas.MakeDraft(document=document, permissions=dict(permissions or {}))
        return self._ask(schemas.RuleDraftRow, "POST", f"/accounts/{account}/drafts", body)

    def apply_draft(self, ident: UUID, reason: str) -> schemas.RuleDraftRow:
        """Set the rules of a draft in the account's system; ``rule_draft`` tells when it shows them."""
        return self._ask(schemas.RuleDraftRow, "POST", f"/rule-drafts/{ident}/apply", schemas.ApplyDraft(reason=reason))

    def rule_drafts(self) -> Sequence[schemas.RuleDraftRow]:
        """The latest drafts, without their documents and lines."""
        return self._get(schemas.RuleDrafts, "/rule-drafts").drafts

    def rule_draft(self, ident: UUID) -> schemas.RuleDraftRow:
        """A draft, with what it would open and close once that is worked out."""
        return self._get(schemas.RuleDraftRow, f"/rule-drafts/{ident}")
