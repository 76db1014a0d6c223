"""The calls about grants, levels and sessions."""

from __future__ import annotations

from uuid import UUID

from openlatch import schemas
from openlatch.api.routing import api, if_match
from openlatch.core.vocabulary import Reach
from openlatch.service.changes import changes, large_changes
from openlatch.service.grants import change_types, levels, lifecycle, terms, usage
from openlatch.service.grants.terms import TermWish
from openlatch.service.lists import register
from openlatch.service.records import edit
from openlatch.service.unit import Unit


@api.add("GET", "/grants/<uuid:ident>", "A grant", schemas.GrantRow, inside=True)
def get_grant(unit: Unit, ident: UUID) -> schemas.GrantRow:
    """With its version as the ETag."""
    return register.one(unit, "grants", ident, schemas.GrantRow)


@api.add("GET", "/sessions/<uuid:ident>", "A session", schemas.SessionRow, inside=True)
def get_session(unit: Unit, ident: UUID) -> schemas.SessionRow:
    """Whether it goes on or has ended."""
    return register.one(unit, "sessions", ident, schemas.SessionRow)


@api.add(
    "GET",
    "/grants/<uuid:ident>/use",
    "Use of a grant by permission",
    schemas.UseOf,
    query=schemas.UseQuery,
    inside=True,
)
def get_use(unit: Unit, ident: UUID, query: schemas.UseQuery) -> schemas.UseOf:
    """And the smallest level that would have covered it, with how sure that is."""
    return usage.of_grant(unit, ident, query.days)


def _draft(body: schemas.LevelDraft) -> levels.Draft:
    new = tuple(levels.NewPermission(p.key, p.sentence, Reach.from_word(p.reach)) for p in body.new)
    return levels.Draft(body.name, body.sentence, tuple(body.keys), new)


@api.add("POST", "/levels", "Make a level", schemas.LevelRow, body=schemas.MakeLevel, status=201)
def make_level(unit: Unit, body: schemas.MakeLevel) -> schemas.LevelRow:
    """A named set of permissions in one system."""
    return levels.make(unit, body.system, body.key, _draft(body))


@api.add(
    "POST",
    "/levels/<uuid:ident>/preview",
    "What changing a level would do",
    schemas.LevelPreview,
    body=schemas.LevelDraft,
)
def preview_level(unit: Unit, ident: UUID, body: schemas.LevelDraft) -> schemas.LevelPreview:
    """Whose rights would grow or shrink. Nothing happens yet."""
    return levels.preview(unit, ident, _draft(body))


@api.add("PUT", "/levels/<uuid:ident>", "Change a level", schemas.LevelRow, body=schemas.ChangeLevel)
def change_level(unit: Unit, ident: UUID, body: schemas.ChangeLevel) -> schemas.LevelRow:
    """At once for everybody who holds it."""
    return levels.change(unit, ident, _draft(body), body.fingerprint, if_match())


@api.add("DELETE", "/levels/<uuid:ident>", "Remove a level", schemas.Done)
def remove_level(unit: Unit, ident: UUID) -> schemas.Done:
    """Only while nothing refers to it; otherwise the answer lists what does."""
    edit.remove(unit, "levels", ident, if_match())
    return schemas.Done(done=True)


@api.add("PUT", "/levels/<uuid:ident>/archived", "Archive a level", schemas.Done)
def archive_level(unit: Unit, ident: UUID) -> schemas.Done:
    """Out of lists and choices. Only while no live grant gives it."""
    edit.archive(unit, "levels", ident, True)
    return schemas.Done(done=True)


@api.add("DELETE", "/levels/<uuid:ident>/archived", "Take a level out of the archive", schemas.Done)
def unarchive_level(unit: Unit, ident: UUID) -> schemas.Done:
    """Back among the others."""
    edit.archive(unit, "levels", ident, False)
    return schemas.Done(done=True)


@api.add(
    "GET",
    "/levels/compare",
    "Two levels side by side",
    schemas.LevelComparison,
    query=schemas.CompareLevels,
    inside=True,
)
def compare_levels(unit: Unit, query: schemas.CompareLevels) -> schemas.LevelComparison:
    """What both give, and what only the one or the other does."""
    return levels.compare(unit, query.first, query.second)


def _change(body: schemas.ChangeWish) -> change_types.Change:
    return change_types.Change(
        change_types.ChangeKind(body.kind),
        body.reason,
        tuple(body.grants),
        body.filter,
        dict(body.versions),
        body.until,
        body.last_day,
        body.no_end,
        body.level,
        body.successor,
        tuple(_term(term) for term in body.terms),
    )


def _term(wish: schemas.TermWish) -> TermWish:
    hours = lifecycle.weekly_hours(wish.hours.days, wish.hours.begins, wish.hours.ends) if wish.hours else None
    return TermWish(wish.level, wish.permission, wish.part, wish.since, wish.until, wish.last_day, hours)


@api.add(
    "POST",
    "/changes/preview",
    "What a change would do to each grant",
    schemas.ChangePreview,
    body=schemas.ChangeWish,
    inside=True,
)
def preview_change(unit: Unit, body: schemas.ChangeWish) -> schemas.ChangePreview:
    """Nothing happens yet."""
    return changes.preview(unit, _change(body))


@api.add("POST", "/changes", "Change grants, one or many", schemas.ChangeResult, body=schemas.ChangeWish, inside=True)
def change_grants(unit: Unit, body: schemas.ChangeWish) -> schemas.ChangeResult:
    """Suspend, resume, move the end, change the level, hand to a successor, or end; with a line for each."""
    return changes.carry_out(unit, _change(body), body.fingerprint)


@api.add(
    "POST", "/changes/large", "Change many grants", schemas.LargeChangePage, body=schemas.LargeChangeWish, status=202
)
def change_many(unit: Unit, body: schemas.LargeChangeWish) -> schemas.LargeChangePage:
    """More than one call has time for. The worker makes it in the background, or only looks what it would do."""
    return large_changes.ask(unit, _change(body), body.only_preview, body.seen)


@api.add("GET", "/changes/large/<uuid:ident>", "How far a large change is", schemas.LargeChangePage)
def get_large_change(unit: Unit, ident: UUID) -> schemas.LargeChangePage:
    """What was done, what was refused and why."""
    return large_changes.one(unit, ident)


@api.add("POST", "/changes/large/<uuid:ident>/stop", "Stop a large change", schemas.LargeChangePage)
def stop_large_change(unit: Unit, ident: UUID) -> schemas.LargeChangePage:
    """It goes no further; what was done stays."""
    return large_changes.stop(unit, ident)


@api.add(
    "POST",
    "/grants/<uuid:ident>/give-up",
    "Give up access of your own",
    schemas.GivenUp,
    body=schemas.GiveUp,
    inside=True,
)
def give_up(unit: Unit, ident: UUID, body: schemas.GiveUp) -> schemas.GivenUp:
    """It ends in its system like any other access, without anyone's leave."""
    return changes.give_up(unit, ident, body.reason)


@api.add("POST", "/sessions/<uuid:ident>/end", "End a session of your own", schemas.GivenUp)
def end_session(unit: Unit, ident: UUID) -> schemas.GivenUp:
    """In the system where it is, where sessions can be ended from here."""
    return changes.end_own_session(unit, ident)


@api.add("GET", "/grants/<uuid:ident>/terms", "The terms of a grant", schemas.TermsNow, inside=True)
def get_terms(unit: Unit, ident: UUID) -> schemas.TermsNow:
    """As a form that changes them begins."""
    return terms.shown(unit, ident)
