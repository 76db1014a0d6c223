"""Schedules, rounds, items, questions."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import date, datetime
from typing import Any
from uuid import UUID

from pydantic import BaseModel

from openlatch import schemas
from openlatch.client.base import Answer, Calls, end


class ReviewsCalls(Calls):
    """Schedules, rounds, items, questions."""

    def schedule(self, ident: UUID) -> schemas.SchedulePage:
        """A schedule of reviews, with the next times that it is due."""
        return self._ask(schemas.SchedulePage, "GET", f"/schedules/{ident}")

    def preview_schedule(self, plan: schemas.SchedulePlan) -> Sequence[datetime]:
        """The next times that a schedule would be due."""
        return self._ask(schemas.ScheduleDates, "POST", "/schedules/preview", plan).next

    def make_schedule(self, plan: schemas.SchedulePlan) -> schemas.SchedulePage:
        """Make a schedule; its rounds open by themselves."""
        return self._ask(schemas.SchedulePage, "POST", "/schedules", plan)

    def make_schedules(self, plan: schemas.SchedulePlan) -> Sequence[schemas.SchedulePage]:
        """Make a schedule for each sensitivity: the more sensitive, the more often."""
        return self._ask(schemas.SchedulesMade, "POST", "/schedules/by-sensitivity", plan).schedules

    def change_schedule(
        self, ident: UUID, plan: schemas.SchedulePlan, version: int | None = None
    ) -> schemas.SchedulePage:
        """Change a schedule, or pause it."""
        return self._ask(schemas.SchedulePage, "PUT", f"/schedules/{ident}", plan, version)

    def open_round(self, plan: schemas.OpenRound) -> schemas.RoundPage:
        """Open a round over what its scope matches."""
        return self._ask(schemas.RoundPage, "POST", "/rounds", plan)

    def preview_round(self, plan: schemas.OpenRound) -> schemas.Population:
        """How many items of each kind a round would have if it opened now, and who may be asked but can't sign in."""
        return self._ask(schemas.Population, "POST", "/rounds/preview", plan)

    def round(self, ident: UUID) -> schemas.RoundPage:
        """A round with its progress."""
        return self._ask(schemas.RoundPage, "GET", f"/rounds/{ident}")

    def round_progress(self, ident: UUID) -> schemas.RoundProgress:
        """How far a round is by reviewer, account and day."""
        return self._ask(schemas.RoundProgress, "GET", f"/rounds/{ident}/progress")

    def groups(self, ident: UUID, by: str = "account") -> Sequence[schemas.Group]:
        """The items of a round in groups: by account, holder, level, recommended or kind."""
        return self._ask(schemas.Groups, "GET", f"/rounds/{ident}/groups?by={by}").groups

    def close_round(self, ident: UUID, undecided: str | schemas.Fates | None = None) -> schemas.RoundPage:
        """Close a round; ``undecided`` (keep, suspend, revoke, or by reach) is for items without a decision."""
        body = schemas.CloseRound.model_validate({"undecided": undecided})
        return self._ask(schemas.RoundPage, "POST", f"/rounds/{ident}/close", body)

    def evidence(self, ident: UUID) -> bytes:
        """The evidence of a round that has ended: the bytes of a ZIP archive."""
        return self._transport.content(f"/rounds/{ident}/evidence")

    def items(self, round_id: UUID, **options: Any) -> Iterator[schemas.ItemRow]:
        """Every item of a round that is yours; all of them for administrators."""
        return self._every(f"/rounds/{round_id}/items", schemas.ItemRow, options)

    def item(self, round_id: UUID, ident: UUID) -> schemas.ItemRow:
        """One item, with what has changed since it was frozen."""
        return self._ask(schemas.ItemRow, "GET", f"/rounds/{round_id}/items/{ident}")

    def preview_decision(self, item: schemas.ItemRow, decision: schemas.Decide) -> schemas.DecisionPreview:
        """What a decision would do."""
        return self._on(schemas.DecisionPreview, item, "preview", decision)

    def decide(
        self,
        item: schemas.ItemRow,
        verdict: str,
        reason: str = "",
        trim_level: UUID | None = None,
        trim_until: date | datetime | None = None,
        successor: UUID | None = None,
        *,
        trim_to_use: bool = False,
    ) -> schemas.ItemRow:
        """Decide an item, unless somebody else changed it since it was read."""
        decision = schemas.Decide.model_validate(
            {
                "verdict": verdict,
                "reason": reason,
                "trim_level": trim_level,
                **end(trim_until, "trim_"),
                "successor": successor,
                "trim_to_use": trim_to_use,
            }
        )
        return self._on(schemas.ItemRow, item, "decision", decision, item.version)

    def decide_many(
        self, round_id: UUID, items: Sequence[schemas.ItemRow], verdict: str, reason: str = ""
    ) -> schemas.Decided:
        """Decide many items alike; what is flagged is not kept so."""
        named = [{"id": item.id, "version": item.version} for item in items]
        body = schemas.DecideMany.model_validate({"verdict": verdict, "reason": reason, "items": named})
        return self._ask(schemas.Decided, "POST", f"/rounds/{round_id}/decisions", body)

    def second(self, item: schemas.ItemRow, agree: bool, reason: str = "") -> schemas.ItemRow:
        """Agree to a decision as its second reviewer, or send it back."""
        return self._on(schemas.ItemRow, item, "second", schemas.Agree(agree=agree, reason=reason), item.version)

    def undo(self, item: schemas.ItemRow) -> schemas.ItemRow:
        """Take a decision back."""
        return self._on(schemas.ItemRow, item, "undo", None, item.version)

    def better_reviewers(self, item: schemas.ItemRow) -> Sequence[schemas.BetterReviewer]:
        """Who could decide an item instead, and why they."""
        return self._ask(schemas.BetterReviewers, "GET", f"/rounds/{item.round_id}/items/{item.id}/reviewers").people

    def pass_on(self, item: schemas.ItemRow, to: UUID, reason: str) -> schemas.ItemRow:
        """Pass an item on to a better reviewer."""
        return self._on(schemas.ItemRow, item, "pass", schemas.PassOn(to=to, reason=reason), item.version)

    def ask_holder(self, item: schemas.ItemRow, question: str) -> schemas.ItemRow:
        """Ask the holder; the answer comes back into the line."""
        return self._on(schemas.ItemRow, item, "question", schemas.Ask(question=question))

    def explain(self, item: schemas.ItemRow, reason: str) -> schemas.ItemRow:
        """Explain what could not be shown to be carried out, so that the round can end."""
        return self._on(schemas.ItemRow, item, "explain", schemas.Explain(reason=reason))

    def retry_item(self, item: schemas.ItemRow) -> schemas.ItemRow:
        """Try again to carry an item out."""
        return self._on(schemas.ItemRow, item, "retry")

    def _on(
        self,
        model: type[Answer],
        item: schemas.ItemRow,
        what: str,
        body: BaseModel | None = None,
        version: int | None = None,
    ) -> Answer:
        return self._ask(model, "POST", f"/rounds/{item.round_id}/items/{item.id}/{what}", body, version)

    def answer_question(self, ident: UUID, answer: str) -> None:
        """Answer a question about one's own access."""
        self._ask(schemas.Done, "POST", f"/questions/{ident}/answer", schemas.AnswerQuestion(answer=answer))

    def calendar(self) -> schemas.CalendarPage:
        """Whether one has a calendar address."""
        return self._ask(schemas.CalendarPage, "GET", "/me/calendar")

    def make_calendar(self) -> schemas.CalendarPage:
        """A new calendar address, told only now; an old one ends."""
        return self._ask(schemas.CalendarPage, "POST", "/me/calendar")

    def end_calendar(self) -> schemas.CalendarPage:
        """End one's calendar address."""
        return self._ask(schemas.CalendarPage, "DELETE", "/me/calendar")

    def absence(self, person: UUID) -> schemas.AbsenceOf:
        """When somebody is away, and who stands in for them."""
        return self._ask(schemas.AbsenceOf, "GET", f"/people/{person}/absence")

    def set_absence(self, person: UUID, absence: schemas.Absent) -> schemas.AbsenceOf:
        """Say when somebody is away, and who decides for them meanwhile."""
        return self._ask(schemas.AbsenceOf, "PUT", f"/people/{person}/absence", absence)
