"""How a review goes: what a schedule says, and what a round keeps of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from uuid import UUID

from openlatch.core.checks import require_count
from openlatch.core.reviews.assignment import Line, Place
from openlatch.core.vocabulary import Fate, Reach, Severity, Subject
from openlatch.errors import BadFilter, BadInput
from openlatch.service.unit import Unit
from openlatch.store.lists.reviews import SCOPES
from openlatch.store.tables import Person, Round, Schedule, Team

LONGEST = 365


@dataclass(frozen=True, slots=True)
class Review:
    """What is reviewed, by whom, how, and what happens to undecided items.

    ``undecided`` is a fate by reach; ``reminders`` are days before the due date; ``closes_after`` are days after it,
    None to be closed by hand. ``acts`` is when_decided or at_close.
    """

    name: str
    scope: str = ""
    covers: Sequence[Subject] = (Subject.GRANT, Subject.LINK)
    days: int = 14
    reviewers: Sequence[Place] = ()
    acts: str = "when_decided"
    undecided: Mapping[str, str] = field(default_factory=dict)
    second_from: int | None = None
    reminders: Sequence[int] = ()
    closes_after: int | None = None


def refuse_unfit(unit: Unit, review: Review) -> None:
    """BadInput (BadFilter for the scope) that names what can't be used."""
    if not review.name.strip():
        raise BadInput("The review has no name.", "Give it one.", {"name": "is missing"})
    require_count(review.days, LONGEST, "days to decide", "days_to_decide")
    if not review.covers:
        raise BadInput("The review covers nothing.", f"Name some of: {', '.join(Subject)}.", {"covers": "is empty"})
    for subject in review.covers:
        try:
            SCOPES[subject].listing.checked(review.scope)
        except BadFilter as error:
            raise BadFilter(f"For items of the kind {subject}: {error.detail}", error.remedy, error.fields) from None
    for place in review.reviewers:
        _refuse_unfit_place(unit, place)
    _refuse_unfit_ends(review)


def _refuse_unfit_ends(review: Review) -> None:
    unknown = set(review.undecided) - {r.word for r in Reach} or set(review.undecided.values()) - set(Fate)
    if unknown:
        raise BadInput(
            f"{sorted(unknown)[0]!r} can't become of undecided items.",
            f"Give one of {', '.join(Fate)} for each of {', '.join(r.word for r in Reach)}.",
            {"undecided": "unknown"},
        )
    if review.second_from is not None and review.second_from not in set(Severity):
        raise BadInput("There is no such severity.", "Use 1 (low) to 4 (critical).", {"second_from": "out of range"})
    if any(not 0 < days <= review.days for days in review.reminders):
        raise BadInput(
            "A reminder comes some days before the review is due, and not before it opens.",
            f"Use 1 to {review.days}.",
            {"reminders": "out of range"},
        )
    if review.closes_after is not None and not 0 <= review.closes_after <= LONGEST:
        raise BadInput("It can't close then.", "Use 0 to 365 days after it is due.", {"closes_after": "out of range"})


def _refuse_unfit_place(unit: Unit, place: Place) -> None:
    table = {Line.PERSON: Person, Line.TEAM: Team}.get(place.kind)
    if table is not None and (place.id is None or unit.db.get(table, place.id) is None):
        raise BadInput(f"There is no such {place.kind} to review.", f"Choose a {place.kind}.", {"reviewers": "unknown"})


def put(review: Review, row: Schedule | Round) -> None:
    """Write it into a schedule or a round."""
    row.name, row.scope, row.acts = review.name.strip(), review.scope, review.acts
    row.covers = [Subject(kind).value for kind in review.covers]
    row.reviewers = [place.stored for place in review.reviewers]
    said = {reach.word: str(review.undecided.get(reach.word, Fate.KEEP)) for reach in Reach}
    row.undecided = said if review.undecided else {}
    row.second_from, row.closes_after = review.second_from, review.closes_after
    row.reminders = sorted(set(review.reminders), reverse=True)


def of_schedule(row: Schedule, name: str) -> Review:
    """The review that a schedule opens now, under a name of its own."""
    return Review(
        name,
        row.scope,
        tuple(Subject(kind) for kind in row.covers),
        row.days_to_decide,
        places(row.reviewers),
        row.acts,
        row.undecided,
        row.second_from,
        tuple(row.reminders),
        row.closes_after,
    )


def places(stored: Sequence[Mapping[str, str]]) -> tuple[Place, ...]:
    """The line of reviewers, as stored."""
    return tuple(Place.of(place) for place in stored)


def named(person: UUID | None) -> tuple[Place, ...]:
    """A line that begins with one person, or the usual one."""
    return (Place(Line.PERSON, person),) if person else ()
