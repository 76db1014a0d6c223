"""The calls about what is open to outsiders. ``Client`` has them all."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import date, datetime
from typing import Any
from uuid import UUID

from openlatch import wire
from openlatch.client.asking import Asking


class Exposing(Asking):
    """Exposures, guards, the boundary, and rules of accounts with drafts of them."""

    def exposure(self, ident: UUID) -> wire.ExposurePage:
        """An exposure with its rules and its use."""
        return self._get(wire.ExposurePage, f"/exposures/{ident}")

    def narrow_exposure(self, ident: UUID) -> wire.RuleDraftRow:
        """Draft rules by which only the use that was seen goes on."""
        return self._ask(wire.RuleDraftRow, "POST", f"/exposures/{ident}/narrow")

    def judge_exposures(
        self, exposures: Iterable[UUID], judgement: str, reason: str = "", last_day: date | None = None
    ) -> Sequence[wire.ExposureRow]:
        """Judge exposures as intended, to_close, or unjudged again."""
        body = wire.JudgeExposures.model_validate(
            {"exposures": list(exposures), "judgement": judgement, "reason": reason, "last_day": last_day}
        )
        return self._ask(wire.ExposureRows, "POST", "/exposures/judge", body).exposures

    def preview_closing(self, exposures: Iterable[UUID]) -> wire.ClosingPreview:
        """The rules that closing exposures would take away, and everything that they open."""
        body = wire.CloseExposures(exposures=list(exposures))
        return self._ask(wire.ClosingPreview, "POST", "/exposures/close/preview", body)

    def close_exposures(self, exposures: Iterable[UUID], reason: str, fingerprint: str = "") -> wire.RevocationPage:
        """Close exposures; gives the revocation that does it."""
        body = wire.CloseExposures(exposures=list(exposures), reason=reason, fingerprint=fingerprint)
        return self._ask(wire.RevocationPage, "POST", "/exposures/close", body)

    def past_exposures(self, account: UUID, at: datetime, believed: datetime | None = None) -> wire.PastExposures:
        """What was open on an account at an instant, as it was known at another."""
        query = {"account": str(account), "at": at.isoformat()}
        if believed is not None:
            query["believed"] = believed.isoformat()
        return self._get(wire.PastExposures, "/exposures/past", **query)

    def expected_exposures(self) -> Sequence[wire.ExpectedRow]:
        """The rules that mark exposures as expected."""
        return self._get(wire.ExpectedRows, "/expected-exposures").rules

    def expect_exposures(self, name: str, filter_: str, reason: str) -> wire.ExpectedRow:
        """Expect exposures by a filter over them."""
        body = wire.AddExpected(name=name, filter=filter_, reason=reason)
        return self._ask(wire.ExpectedRow, "POST", "/expected-exposures", body)

    def stop_expecting(self, ident: UUID) -> None:
        """Expect them no longer."""
        self._ask(wire.Done, "DELETE", f"/expected-exposures/{ident}")

    def boundary(self) -> wire.Boundary:
        """What counts as inside."""
        return self._get(wire.Boundary, "/boundary")

    def preview_boundary(self, draft: wire.BoundaryDraft) -> wire.ExposureChanges:
        """The exposures that would come and go with another boundary."""
        return self._ask(wire.ExposureChanges, "POST", "/boundary/preview", draft)

    def set_boundary(self, draft: wire.BoundaryDraft) -> wire.Boundary:
        """Set what counts as inside."""
        return self._ask(wire.Boundary, "PUT", "/boundary", draft)

    def guards(self) -> Sequence[wire.GuardRow]:
        """The guards against exposure."""
        return self._get(wire.GuardRows, "/exposure-guards").guards

    def preview_guard(self, draft: wire.GuardDraft) -> wire.ExposureChanges:
        """What a guard would keep shut."""
        return self._ask(wire.ExposureChanges, "POST", "/exposure-guards/preview", draft)

    def set_guard(self, wish: wire.SetGuard) -> wire.GuardRow:
        """Set a guard."""
        return self._ask(wire.GuardRow, "POST", "/exposure-guards", wish)

    def preview_lifting(self, ident: UUID) -> wire.ExposureChanges:
        """What lifting a guard would open."""
        return self._ask(wire.ExposureChanges, "POST", f"/exposure-guards/{ident}/lift/preview")

    def set_guard_again(self, ident: UUID) -> None:
        """Set a guard again where it was switched off."""
        self._ask(wire.Done, "POST", f"/exposure-guards/{ident}/set-again")

    def lift_guard(self, ident: UUID, reason: str, fingerprint: str = "") -> None:
        """Lift a guard."""
        body = wire.LiftGuard(reason=reason, fingerprint=fingerprint)
        self._ask(wire.Done, "POST", f"/exposure-guards/{ident}/lift", body)

    def rules_of(self, account: UUID) -> wire.RulesOfAccount:
        """The access rules of an account, as a rule document."""
        return self._get(wire.RulesOfAccount, f"/accounts/{account}/rules")

    def check_rules(self, account: UUID, document: str) -> Sequence[wire.RuleProblem]:
        """What is wrong with a rule document for an account."""
        body = wire.CheckRules(document=document)
        return self._ask(wire.CheckedRules, "POST", f"/accounts/{account}/rules/check", body).problems

    def draft_rules(
        self, account: UUID, document: str, permissions: Mapping[str, Any] | None = None
    ) -> wire.RuleDraftRow:
        """Draft access rules for an account, to see what they would open and close."""
        body = wire.MakeDraft(document=document, permissions=dict(permissions or {}))
        return self._ask(wire.RuleDraftRow, "POST", f"/accounts/{account}/drafts", body)

    def apply_draft(self, ident: UUID, reason: str) -> wire.RuleDraftRow:
        """Set the rules of a draft in the account's system; ``rule_draft`` tells when it shows them."""
        return self._ask(wire.RuleDraftRow, "POST", f"/rule-drafts/{ident}/apply", wire.ApplyDraft(reason=reason))

    def rule_drafts(self) -> Sequence[wire.RuleDraftRow]:
        """The latest drafts, without their documents and lines."""
        return self._get(wire.RuleDrafts, "/rule-drafts").drafts

    def rule_draft(self, ident: UUID) -> wire.RuleDraftRow:
        """A draft, with what it would open and close once that is worked out."""
        return self._get(wire.RuleDraftRow, f"/rule-drafts/{ident}")
