"""The calls about what is open to outsiders: exposures, guards, the boundary, rules of accounts and drafts of them."""

from __future__ import annotations

from uuid import UUID

import orjson
from flask import Response

from openlatch import schemas
from openlatch.api.routes.lists import list_query
from openlatch.api.routing import api
from openlatch.core.exposure import form
from openlatch.service.exposure import (
    boundary,
    boundary_changes,
    drafts,
    expected,
    guard_changes,
    guards,
    history,
    judge,
    narrow,
    pages,
)
from openlatch.service.lists import register
from openlatch.service.revocations import close_exposures as close
from openlatch.service.revocations import steps
from openlatch.service.systems import apply_rules
from openlatch.service.unit import Unit
from openlatch.store.lists.engine import Page


@api.add("GET", "/exposures", "List exposures", schemas.Rows[schemas.ExposureRow], query=schemas.ListOptions)
def list_exposures(unit: Unit, query: schemas.ListOptions) -> Page:
    """Of accounts that you answer for. What is gone, or shut by a system’s guard, only where the filter names that."""
    return register.page(unit, "exposures", list_query(query))


@api.add("GET", "/exposures/<uuid:ident>", "An exposure with its rules and its use", schemas.ExposurePage)
def get_exposure(unit: Unit, ident: UUID) -> schemas.ExposurePage:
    """With the smallest rule that would do for the use that was seen."""
    return pages.page(unit, ident)


@api.add(
    "POST",
    "/exposures/<uuid:ident>/narrow",
    "Draft rules that leave only the use seen",
    schemas.RuleDraftRow,
    status=201,
)
def narrow_exposure(unit: Unit, ident: UUID) -> schemas.RuleDraftRow:
    """An ordinary draft: preview what it would close, then set it."""
    return narrow.exposure(unit, ident)


@api.add("POST", "/exposures/judge", "Judge exposures", schemas.ExposureRows, body=schemas.JudgeExposures)
def judge_exposures(unit: Unit, body: schemas.JudgeExposures) -> schemas.ExposureRows:
    """As intended, with why and until when; as to be closed; or as unjudged again. All of them, or none."""
    return schemas.ExposureRows(exposures=judge.judge(unit, body.exposures, body.judgement, body.reason, body.last_day))


@api.add(
    "POST",
    "/exposures/close/preview",
    "What closing exposures would do",
    schemas.ClosingPreview,
    body=schemas.CloseExposures,
)
def preview_closing(unit: Unit, body: schemas.CloseExposures) -> schemas.ClosingPreview:
    """The rules that would be taken away, and everything that they open."""
    return close.preview(unit, body.exposures)


@api.add("POST", "/exposures/close", "Close exposures", schemas.RevocationPage, body=schemas.CloseExposures, status=201)
def close_exposures(unit: Unit, body: schemas.CloseExposures) -> schemas.RevocationPage:
    """Its rules are taken away in their systems, in the background, until a read confirms it."""
    return steps.page(unit, close.close(unit, body.exposures, body.reason, body.fingerprint))


@api.add("GET", "/exposures/past", "What was open at an instant", schemas.PastExposures, query=schemas.PastOf)
def past_exposures(unit: Unit, query: schemas.PastOf) -> schemas.PastExposures:
    """On one account, as it was known at another instant, or now."""
    return history.at_instant(unit, query.account, query.at, query.believed)


@api.add("GET", "/expected-exposures", "Rules for what is expected to be open", schemas.ExpectedRows)
def get_expected(unit: Unit) -> schemas.ExpectedRows:
    """All of the organisation's."""
    return schemas.ExpectedRows(rules=expected.listed(unit))


@api.add(
    "POST",
    "/expected-exposures",
    "Expect exposures by a filter",
    schemas.ExpectedRow,
    body=schemas.AddExpected,
    status=201,
)
def add_expected(unit: Unit, body: schemas.AddExpected) -> schemas.ExpectedRow:
    """A press page is public, say."""
    return expected.add(unit, body.name, body.filter, body.reason)


@api.add("DELETE", "/expected-exposures/<uuid:ident>", "Expect them no longer", schemas.Done)
def remove_expected(unit: Unit, ident: UUID) -> schemas.Done:
    """What nobody judged otherwise has to be judged again."""
    expected.remove(unit, ident)
    return schemas.Done(done=True)


@api.add("GET", "/boundary", "What counts as inside", schemas.Boundary)
def get_boundary(unit: Unit) -> schemas.Boundary:
    """Domains, organisations, networks, and systems with sign-ins for people inside only."""
    return boundary_changes.shown(unit)


@api.add(
    "POST",
    "/boundary/preview",
    "What another boundary would change",
    schemas.ExposureChanges,
    body=schemas.BoundaryDraft,
)
def preview_boundary(unit: Unit, body: schemas.BoundaryDraft) -> schemas.ExposureChanges:
    """The exposures that would come and go."""
    return boundary_changes.preview(unit, _boundary(body))


@api.add("PUT", "/boundary", "Set what counts as inside", schemas.Boundary, body=schemas.BoundaryDraft)
def set_boundary(unit: Unit, body: schemas.BoundaryDraft) -> schemas.Boundary:
    """All exposures are evaluated again."""
    return boundary_changes.change(unit, _boundary(body))


def _boundary(body: schemas.BoundaryDraft) -> boundary.Setting:
    return boundary.Setting(tuple(body.domains), tuple(body.organisations), tuple(body.networks), tuple(body.systems))


@api.add("GET", "/exposure-guards", "Guards against exposure", schemas.GuardRows)
def get_guards(unit: Unit) -> schemas.GuardRows:
    """Those that concern accounts which you may see."""
    return schemas.GuardRows(guards=guards.listed(unit))


@api.add(
    "POST", "/exposure-guards/preview", "What is open against a guard", schemas.ExposureChanges, body=schemas.GuardDraft
)
def preview_guard(unit: Unit, body: schemas.GuardDraft) -> schemas.ExposureChanges:
    """Nothing is set yet."""
    return guard_changes.preview(unit, _guard(body))


@api.add("POST", "/exposure-guards", "Set a guard", schemas.GuardRow, body=schemas.SetGuard, status=201)
def set_guard(unit: Unit, body: schemas.SetGuard) -> schemas.GuardRow:
    """No system is changed. What is open against the guard is flagged, and shown in every preview."""
    return guard_changes.add(unit, _guard(body), body.fingerprint)


@api.add(
    "POST",
    "/exposure-guards/<uuid:ident>/lift/preview",
    "What is open against a guard that is set",
    schemas.ExposureChanges,
)
def preview_lifting(unit: Unit, ident: UUID) -> schemas.ExposureChanges:
    """Nothing happens yet."""
    return guard_changes.preview_lifting(unit, ident)


@api.add("POST", "/exposure-guards/<uuid:ident>/lift", "Lift a guard", schemas.Done, body=schemas.LiftGuard)
def lift_guard(unit: Unit, ident: UUID, body: schemas.LiftGuard) -> schemas.Done:
    """Takes a fresh proof of identity."""
    guard_changes.remove(unit, ident, body.reason, body.fingerprint)
    return schemas.Done(done=True)


@api.add("POST", "/exposure-guards/<uuid:ident>/set-again", "Set a guard again in its systems", schemas.Done)
def set_guard_again(unit: Unit, ident: UUID) -> schemas.Done:
    """Where it was switched off, or could not be set."""
    guard_changes.set_again(unit, ident)
    return schemas.Done()


def _guard(body: schemas.GuardDraft) -> guard_changes.Wish:
    return guard_changes.Wish(body.rights, body.reason, body.but, body.account, body.account_kind, body.resource)


@api.add("GET", "/accounts/<uuid:ident>/rules", "The access rules of an account", schemas.RulesOfAccount)
def get_access_rules(unit: Unit, ident: UUID) -> schemas.RulesOfAccount:
    """As a rule document."""
    return drafts.current(unit, ident)


@api.add(
    "POST", "/accounts/<uuid:ident>/rules/check", "Check a rule document", schemas.CheckedRules, body=schemas.CheckRules
)
def check_access_rules(unit: Unit, ident: UUID, body: schemas.CheckRules) -> schemas.CheckedRules:
    """Every problem with its line; nothing is kept."""
    return schemas.CheckedRules(problems=drafts.check(unit, ident, body.document))


@api.add(
    "POST",
    "/accounts/<uuid:ident>/drafts",
    "Draft access rules",
    schemas.RuleDraftRow,
    body=schemas.MakeDraft,
    status=201,
)
def draft_access_rules(unit: Unit, ident: UUID, body: schemas.MakeDraft) -> schemas.RuleDraftRow:
    """What it would open and close is worked out, at once or by the worker; fetch it until its state is ready."""
    return drafts.make(unit, ident, body.document, body.permissions)


@api.add(
    "POST",
    "/rule-drafts/<uuid:ident>/apply",
    "Set the rules of a draft",
    schemas.RuleDraftRow,
    body=schemas.ApplyDraft,
    status=202,
)
def apply_rule_draft(unit: Unit, ident: UUID, body: schemas.ApplyDraft) -> schemas.RuleDraftRow:
    """The worker sets them in the account’s system; fetch the draft until the system shows them, or it has failed."""
    return apply_rules.ask(unit, ident, body.reason)


@api.add("GET", "/rule-drafts", "The latest drafts of access rules", schemas.RuleDrafts)
def get_rule_drafts(unit: Unit) -> schemas.RuleDrafts:
    """Of accounts that you answer for, without their documents and lines."""
    return schemas.RuleDrafts(drafts=drafts.listed(unit))


@api.add("GET", "/rule-drafts/<uuid:ident>", "A draft of access rules", schemas.RuleDraftRow)
def get_rule_draft(unit: Unit, ident: UUID) -> schemas.RuleDraftRow:
    """With what it would open and close, once that is worked out."""
    return drafts.one(unit, ident)


@api.add("GET", "/rule-document/schema", "The JSON Schema of rule documents", None)
def rule_document_schema(unit: Unit) -> Response:
    """By which other programs can write and check them."""
    return Response(orjson.dumps(form.schema()), content_type="application/schema+json")
