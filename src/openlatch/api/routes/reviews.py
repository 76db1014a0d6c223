"""The calls about reviews: schedules, rounds, items, questions, evidence."""

from __future__ import annotations

import time
from uuid import UUID

from flask import Response

from openlatch import schemas
from openlatch.api.routes.lists import list_query
from openlatch.api.routing import api, if_match, the_service, viewer
from openlatch.core.reviews.assignment import Place
from openlatch.core.vocabulary import Happening, Reach, Subject, Verdict
from openlatch.errors import NotReady
from openlatch.service.reviews import calendar_feed, decisions, evidence, plans, reviewers, rounds, schedules
from openlatch.service.reviews import close_round as reviews_close_round
from openlatch.service.reviews import open_round as reviews_open_round
from openlatch.service.unit import Unit
from openlatch.store.lists.engine import Page

ROUND = "/rounds/<uuid:ident>"


ITEM = f"{ROUND}/items/<uuid:item>"


# Seconds to wait for the worker's signature; then the client is told to ask again.
SIGNING_SECONDS = 20.0


def _review(body: schemas.ReviewPlan, undecided: schemas.Fates | None) -> plans.Review:
    return plans.Review(
        body.name,
        body.scope,
        tuple(Subject(kind) for kind in body.covers),
        body.days_to_decide,
        tuple(Place.of(place.model_dump()) for place in body.reviewers),
        body.acts,
        undecided.model_dump() if undecided else {},
        body.second_from,
        tuple(body.reminders),
        body.closes_after,
    )


def _plan(body: schemas.SchedulePlan) -> schedules.Plan:
    events = tuple(Happening(event) for event in body.events)
    review = _review(body, body.undecided)
    return schedules.Plan(review, body.recurrence, body.starts, body.time_zone, events, body.paused)


@api.add("POST", "/schedules/preview", "When a schedule would be due", schemas.ScheduleDates, body=schemas.SchedulePlan)
def preview_schedule(unit: Unit, body: schemas.SchedulePlan) -> schemas.ScheduleDates:
    """The next times, before it is kept."""
    return schemas.ScheduleDates(next=schedules.upcoming(unit, _plan(body)))


@api.add("POST", "/schedules", "Make a schedule", schemas.SchedulePage, body=schemas.SchedulePlan, status=201)
def make_schedule(unit: Unit, body: schemas.SchedulePlan) -> schemas.SchedulePage:
    """Its rounds open by themselves."""
    return schedules.keep(unit, _plan(body))


@api.add(
    "POST",
    "/schedules/by-sensitivity",
    "Make a schedule for each sensitivity",
    schemas.SchedulesMade,
    body=schemas.SchedulePlan,
    status=201,
)
def make_schedules(unit: Unit, body: schemas.SchedulePlan) -> schemas.SchedulesMade:
    """Critical accounts every month, high every quarter, medium every half-year, low every year."""
    return schemas.SchedulesMade(schedules=schedules.keep_by_sensitivity(unit, _plan(body)))


@api.add("GET", "/schedules/<uuid:ident>", "A schedule", schemas.SchedulePage)
def get_schedule(unit: Unit, ident: UUID) -> schemas.SchedulePage:
    """With the next times that it is due."""
    return schedules.one(unit, ident)


@api.add(
    "PUT", "/schedules/<uuid:ident>", "Change a schedule, or pause it", schemas.SchedulePage, body=schemas.SchedulePlan
)
def change_schedule(unit: Unit, ident: UUID, body: schemas.SchedulePlan) -> schemas.SchedulePage:
    """Rounds that are open stay as they are."""
    return schedules.keep(unit, _plan(body), ident, if_match())


@api.add("POST", "/rounds", "Open a review round", schemas.RoundPage, body=schemas.OpenRound, status=201)
def open_round(unit: Unit, body: schemas.OpenRound) -> schemas.RoundPage:
    """Over what its scope matches, frozen with the facts as they are."""
    return rounds.page(unit, reviews_open_round.open_round(unit, _review(body, body.undecided)))


@api.add("POST", "/rounds/preview", "What a round would hold", schemas.Population, body=schemas.OpenRound)
def preview_round(unit: Unit, body: schemas.OpenRound) -> schemas.Population:
    """How many items of each kind, if it opened now."""
    return reviews_open_round.preview(unit, _review(body, body.undecided))


@api.add("GET", ROUND, "A round with its progress", schemas.RoundPage)
def get_round(unit: Unit, ident: UUID) -> schemas.RoundPage:
    """By reviewer, with how fast they went and how much they kept."""
    return rounds.page(unit, ident)


@api.add("GET", f"{ROUND}/progress", "How far a round is", schemas.RoundProgress)
def get_progress(unit: Unit, ident: UUID) -> schemas.RoundProgress:
    """By reviewer, account and day, and what is late."""
    return rounds.progress(unit, ident)


@api.add("GET", f"{ROUND}/groups", "The items of a round in groups", schemas.Groups, query=schemas.GroupBy)
def get_groups(unit: Unit, ident: UUID, query: schemas.GroupBy) -> schemas.Groups:
    """Of those that are yours; administrators see all."""
    return schemas.Groups(groups=rounds.groups(unit, ident, query.by))


@api.add("GET", f"{ROUND}/items", "The items of a round", schemas.Rows[schemas.ItemRow], query=schemas.ListOptions)
def list_items(unit: Unit, ident: UUID, query: schemas.ListOptions) -> Page:
    """Those that are yours; administrators see all."""
    return rounds.items(unit, ident, list_query(query))


@api.add("POST", f"{ROUND}/close", "Close a round", schemas.RoundPage, body=schemas.CloseRound)
def close_round(unit: Unit, ident: UUID, body: schemas.CloseRound) -> schemas.RoundPage:
    """What was decided is carried out in the background; then nothing in it can change."""
    given = body.undecided
    fates = dict.fromkeys((r.word for r in Reach), given) if isinstance(given, str) else None
    return reviews_close_round.close(unit, ident, given.model_dump() if isinstance(given, schemas.Fates) else fates)


@api.add("GET", f"{ROUND}/evidence", "The evidence of a round that has ended, as a ZIP archive", None, open=True)
def get_evidence(ident: UUID) -> Response:
    """To verify it elsewhere: openlatch evidence verify. The worker signs it when it is first asked for."""
    who, until = viewer(), time.monotonic() + SIGNING_SECONDS
    while True:
        with the_service().unit(who) as unit:
            found = evidence.kept(unit, ident)
        if found is not None:
            break
        if time.monotonic() > until:
            raise NotReady("The evidence is still being signed.", "Ask again in a moment.")
        time.sleep(0.2)
    name, content = found
    disposition = {"Content-Disposition": f'attachment; filename="{name}"'}
    return Response(content, content_type="application/zip", headers=disposition)


def _decision(body: schemas.Decide, version: int | None = None) -> decisions.Decision:
    return decisions.Decision(
        Verdict(body.verdict),
        body.reason,
        body.trim_level,
        body.trim_until,
        body.successor,
        version,
        body.trim_to_use,
        body.trim_last_day,
    )


@api.add("GET", ITEM, "An item", schemas.ItemRow)
def get_item(unit: Unit, ident: UUID, item: UUID) -> schemas.ItemRow:
    """With what has changed since it was frozen."""
    return rounds.item(unit, ident, item)


@api.add("POST", f"{ITEM}/preview", "What a decision would do", schemas.DecisionPreview, body=schemas.Decide)
def preview_decision(unit: Unit, ident: UUID, item: UUID, body: schemas.Decide) -> schemas.DecisionPreview:
    """Nothing happens yet."""
    return decisions.preview(unit, ident, item, _decision(body))


@api.add("POST", f"{ITEM}/decision", "Decide an item", schemas.ItemRow, body=schemas.Decide)
def decide(unit: Unit, ident: UUID, item: UUID, body: schemas.Decide) -> schemas.ItemRow:
    """Send If-Match with the item's version, so that two reviewers don't overwrite each other."""
    return decisions.decide(unit, ident, item, _decision(body, if_match()))


@api.add("POST", f"{ROUND}/decisions", "Decide many items alike", schemas.Decided, body=schemas.DecideMany)
def decide_many(unit: Unit, ident: UUID, body: schemas.DecideMany) -> schemas.Decided:
    """What is flagged is not kept so: the answer names it."""
    picked = [decisions.Picked(one.id, one.version) for one in body.items]
    lines = decisions.decide_many(unit, ident, picked, _decision(body))
    return schemas.Decided(lines=lines, decided=sum(line.refused is None for line in lines))


@api.add("POST", f"{ITEM}/second", "Agree to a decision, or send it back", schemas.ItemRow, body=schemas.Agree)
def second(unit: Unit, ident: UUID, item: UUID, body: schemas.Agree) -> schemas.ItemRow:
    """As its second reviewer."""
    return decisions.second(unit, ident, item, body.agree, body.reason, if_match())


@api.add("POST", f"{ITEM}/undo", "Take a decision back", schemas.ItemRow)
def undo(unit: Unit, ident: UUID, item: UUID) -> schemas.ItemRow:
    """Until the round is closed, or the decision is being carried out."""
    return decisions.undo(unit, ident, item, if_match())


@api.add("GET", f"{ITEM}/reviewers", "Who could decide an item instead", schemas.BetterReviewers)
def better_reviewers(unit: Unit, ident: UUID, item: UUID) -> schemas.BetterReviewers:
    """And why they."""
    return schemas.BetterReviewers(people=decisions.better_reviewers(unit, ident, item))


@api.add("POST", f"{ITEM}/pass", "Pass an item on to a better reviewer", schemas.ItemRow, body=schemas.PassOn)
def pass_on(unit: Unit, ident: UUID, item: UUID, body: schemas.PassOn) -> schemas.ItemRow:
    """The new reviewer is notified."""
    return decisions.pass_on(unit, ident, item, body.to, body.reason, if_match())


@api.add("POST", f"{ITEM}/question", "Ask the holder", schemas.ItemRow, body=schemas.Ask)
def ask(unit: Unit, ident: UUID, item: UUID, body: schemas.Ask) -> schemas.ItemRow:
    """The answer comes back into the line."""
    return decisions.ask(unit, ident, item, body.question)


@api.add(
    "POST", "/questions/<uuid:ident>/answer", "Answer a question to you", schemas.Done, body=schemas.AnswerQuestion
)
def answer_question(unit: Unit, ident: UUID, body: schemas.AnswerQuestion) -> schemas.Done:
    """About your own access."""
    decisions.answer(unit, ident, body.answer)
    return schemas.Done(done=True)


@api.add("POST", f"{ITEM}/explain", "Explain what could not be carried out", schemas.ItemRow, body=schemas.Explain)
def explain(unit: Unit, ident: UUID, item: UUID, body: schemas.Explain) -> schemas.ItemRow:
    """So that the round can end without it."""
    return reviews_close_round.explain(unit, ident, item, body.reason)


@api.add("POST", f"{ITEM}/retry", "Try again to carry an item out", schemas.ItemRow)
def retry_item(unit: Unit, ident: UUID, item: UUID) -> schemas.ItemRow:
    """After what was in the way has been put right."""
    return reviews_close_round.retry(unit, ident, item)


@api.add("GET", "/me/calendar", "Your calendar address", schemas.CalendarPage)
def get_calendar(unit: Unit) -> schemas.CalendarPage:
    """Whether you have one. The address itself is shown once, when it is made."""
    return calendar_feed.page(unit)


@api.add("POST", "/me/calendar", "Make a calendar address", schemas.CalendarPage, secret=True)
def make_calendar(unit: Unit) -> schemas.CalendarPage:
    """An old one opens nothing any more."""
    return calendar_feed.make(unit)


@api.add("DELETE", "/me/calendar", "End your calendar address", schemas.CalendarPage)
def end_calendar(unit: Unit) -> schemas.CalendarPage:
    """At once."""
    return calendar_feed.take_away(unit)


@api.add("GET", "/people/<uuid:ident>/absence", "When somebody is away", schemas.AbsenceOf)
def get_absence(unit: Unit, ident: UUID) -> schemas.AbsenceOf:
    """Oneself, or anybody for administrators."""
    return reviewers.absence(unit, ident)


@api.add("PUT", "/people/<uuid:ident>/absence", "Say when somebody is away", schemas.AbsenceOf, body=schemas.Absent)
def set_absence(unit: Unit, ident: UUID, body: schemas.Absent) -> schemas.AbsenceOf:
    """And who decides for them meanwhile."""
    return reviewers.set_absence(
        unit, ident, reviewers.Absence(body.since, body.until, body.deputy, body.first_day, body.last_day)
    )
