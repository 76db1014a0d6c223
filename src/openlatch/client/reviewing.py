"""The calls about reviews: schedules, rounds, items, evidence, and one's own side of it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import Any
from uuid import UUID

from pydantic import BaseModel

from openlatch import wire
from openlatch.client.asking import Answer, Asking


class Reviewing(Asking):
    """Reviews."""

    # Schedules.

    def schedule(self, ident: UUID) -> wire.SchedulePage:
        """A schedule of reviews, with the next times that it is due."""
        return self._ask(wire.SchedulePage, "GET", f"/schedules/{ident}")

    def preview_schedule(self, plan: wire.SchedulePlan) -> Sequence[datetime]:
        """The next times that a schedule would be due."""
        return self._ask(wire.ScheduleDates, "POST", "/schedules/preview", plan).next

    def make_schedule(self, plan: wire.SchedulePlan) -> wire.SchedulePage:
        """Make a schedule; its rounds open by themselves."""
        return self._ask(wire.SchedulePage, "POST", "/schedules", plan)

    def make_schedules(self, plan: wire.SchedulePlan) -> Sequence[wire.SchedulePage]:
        """Make a schedule for each sensitivity: the more sensitive, the more often."""
        return self._ask(wire.SchedulesMade, "POST", "/schedules/by-sensitivity", plan).schedules

    def change_schedule(self, ident: UUID, plan: wire.SchedulePlan, version: int | None = None) -> wire.SchedulePage:
        """Change a schedule, or pause it."""
        return self._ask(wire.SchedulePage, "PUT", f"/schedules/{ident}", plan, version)

    # Rounds.

    def open_round(self, plan: wire.OpenRound) -> wire.RoundPage:
        """Open a round over what its scope matches."""
        return self._ask(wire.RoundPage, "POST", "/rounds", plan)

    def preview_round(self, plan: wire.OpenRound) -> wire.Population:
        """How many items of each kind a round would have if it opened now, and who may be asked but can't sign in."""
        return self._ask(wire.Population, "POST", "/rounds/preview", plan)

    def round(self, ident: UUID) -> wire.RoundPage:
        """A round with its progress."""
        return self._ask(wire.RoundPage, "GET", f"/rounds/{ident}")

    def round_progress(self, ident: UUID) -> wire.RoundProgress:
        """How far a round is by reviewer, account and day."""
        return self._ask(wire.RoundProgress, "GET", f"/rounds/{ident}/progress")

    def groups(self, ident: UUID, by: str = "account") -> Sequence[Any]:
        """The items of a round in groups: by account, holder, level, recommended or kind."""
        return self._ask(wire.Groups, "GET", f"/rounds/{ident}/groups?by={by}").groups

    def close_round(self, ident: UUID, undecided: str | wire.Fates | None = None) -> wire.RoundPage:
        """Close a round; ``undecided`` (keep, suspend, revoke, or by reach) is for items without a decision."""
        body = wire.CloseRound.model_validate({"undecided": undecided})
        return self._ask(wire.RoundPage, "POST", f"/rounds/{ident}/close", body)

    def evidence(self, ident: UUID) -> bytes:
        """The evidence of a round that has ended: the bytes of a ZIP archive."""
        return self._transport.content(f"/rounds/{ident}/evidence")

    # Items.

    def items(self, round_id: UUID, **options: Any) -> Iterator[wire.ItemRow]:
        """Every item of a round that is yours; all of them for administrators."""
        return self._every(f"/rounds/{round_id}/items", wire.ItemRow, options)

    def item(self, round_id: UUID, ident: UUID) -> wire.ItemRow:
        """One item, with what has changed since it was frozen."""
        return self._ask(wire.ItemRow, "GET", f"/rounds/{round_id}/items/{ident}")

    def preview_decision(self, item: wire.ItemRow, decision: wire.Decide) -> wire.DecisionPreview:
        """What a decision would do."""
        return self._on(wire.DecisionPreview, item, "preview", decision)

    def decide(
        self,
        item: wire.ItemRow,
        verdict: str,
        reason: str = "",
        trim_level: UUID | None = None,
        trim_until: datetime | None = None,
        successor: UUID | None = None,
        *,
        trim_to_use: bool = False,
    ) -> wire.ItemRow:
        """Decide an item, unless somebody else changed it since it was read."""
        decision = wire.Decide.model_validate(
            {
                "verdict": verdict,
                "reason": reason,
                "trim_level": trim_level,
                "trim_until": trim_until,
                "successor": successor,
                "trim_to_use": trim_to_use,
            }
        )
        return self._on(wire.ItemRow, item, "decision", decision, item.version)

    def decide_many(
        self, round_id: UUID, items: Sequence[wire.ItemRow], verdict: str, reason: str = ""
    ) -> wire.Decided:
        """Decide many items alike; what is flagged is not kept so."""
        named = [{"id": item.id, "version": item.version} for item in items]
        body = wire.DecideMany.model_validate({"verdict": verdict, "reason": reason, "items": named})
        return self._ask(wire.Decided, "POST", f"/rounds/{round_id}/decisions", body)

    def second(self, item: wire.ItemRow, agree: bool, reason: str = "") -> wire.ItemRow:
        """Agree to a decision as its second reviewer, or send it back."""
        return self._on(wire.ItemRow, item, "second", wire.Agree(agree=agree, reason=reason), item.version)

    def undo(self, item: wire.ItemRow) -> wire.ItemRow:
        """Take a decision back."""
        return self._on(wire.ItemRow, item, "undo", None, item.version)

    def better_reviewers(self, item: wire.ItemRow) -> Sequence[Any]:
        """Who could decide an item instead, and why they."""
        return self._ask(wire.BetterReviewers, "GET", f"/rounds/{item.round_id}/items/{item.id}/reviewers").people

    def pass_on(self, item: wire.ItemRow, to: UUID, reason: str) -> wire.ItemRow:
        """Pass an item on to a better reviewer."""
        return self._on(wire.ItemRow, item, "pass", wire.PassOn(to=to, reason=reason), item.version)

    def ask_holder(self, item: wire.ItemRow, question: str) -> wire.ItemRow:
        """Ask the holder; the answer comes back into the line."""
        return self._on(wire.ItemRow, item, "question", wire.Ask(question=question))

    def explain(self, item: wire.ItemRow, reason: str) -> wire.ItemRow:
        """Explain what could not be shown to be carried out, so that the round can end."""
        return self._on(wire.ItemRow, item, "explain", wire.Explain(reason=reason))

    def retry_item(self, item: wire.ItemRow) -> wire.ItemRow:
        """Try again to carry an item out."""
        return self._on(wire.ItemRow, item, "retry")

    def _on(
        self,
        model: type[Answer],
        item: wire.ItemRow,
        what: str,
        body: BaseModel | None = None,
        version: int | None = None,
    ) -> Answer:
        return self._ask(model, "POST", f"/rounds/{item.round_id}/items/{item.id}/{what}", body, version)

    # One's own side.

    def answer_question(self, ident: UUID, answer: str) -> None:
        """Answer a question about one's own access."""
        self._ask(wire.Done, "POST", f"/questions/{ident}/answer", wire.AnswerQuestion(answer=answer))

    def calendar(self) -> wire.CalendarPage:
        """Whether one has a calendar address."""
        return self._ask(wire.CalendarPage, "GET", "/me/calendar")

    def make_calendar(self) -> wire.CalendarPage:
        """A new calendar address, told only now; an old one ends."""
        return self._ask(wire.CalendarPage, "POST", "/me/calendar")

    def end_calendar(self) -> wire.CalendarPage:
        """End one's calendar address."""
        return self._ask(wire.CalendarPage, "DELETE", "/me/calendar")

    def absence(self, person: UUID) -> wire.AbsenceOf:
        """When somebody is away, and who stands in for them."""
        return self._ask(wire.AbsenceOf, "GET", f"/people/{person}/absence")

    def set_absence(self, person: UUID, absence: wire.Absent) -> wire.AbsenceOf:
        """Say when somebody is away, and who decides for them meanwhile."""
        return self._ask(wire.AbsenceOf, "PUT", f"/people/{person}/absence", absence)
