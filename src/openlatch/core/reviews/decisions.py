"""Decisions: who may make them, what each has to say, many at once, and how far a round is."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from itertools import pairwise
from statistics import median
from uuid import UUID

from openlatch.core.checks import require_words
from openlatch.core.reviews.assignment import MAY_BE_THE_SAME, About
from openlatch.core.vocabulary import Fate, Reach, Severity, Subject, Verdict
from openlatch.errors import BadInput, NotAllowed

# What revoking comes to for each kind of item. A trim is for grants and links; of an exposure it is until when it is
# intended, or that it is narrowed to the use that was seen.
REVOKING = {
    Subject.GRANT: "ends it",
    Subject.LINK: "unlinks the app",
    Subject.SESSION: "ends the session",
    Subject.EXPOSURE: "closes it to everyone outside",
    Subject.OWNERSHIP: "offers it to another owner",
    Subject.LATCH: "switches it off",
    Subject.ACCEPTANCE: "opens the flag again",
}
_TRIMMED = (Subject.GRANT, Subject.LINK)


@dataclass(frozen=True, slots=True)
class Undecided:
    """What deciding needs to know of an item. ``severity`` is the worst of the flags on it."""

    subject: Subject
    about: About
    reach: Reach | None = None
    until: datetime | None = None
    severity: int = 0


@dataclass(frozen=True, slots=True)
class Choice:
    """A decision as somebody wants to make it."""

    verdict: Verdict
    reason: str
    level_reach: Reach | None = None
    until: datetime | None = None
    successor: UUID | None = None
    to_use: bool = False


def refuse_unfit(item: Undecided, choice: Choice, decider: UUID | None, now: datetime) -> None:
    """Raise when this decision can't be made: by this person, or in this form.

    NotAllowed for one's own access and for what one gave; BadInput for a missing reason, a trim that does not take
    anything away, or an ownership without a successor.
    """
    refuse_involved(item.about, decider)
    needs_reason = choice.verdict is not Verdict.KEEP or item.severity >= Severity.HIGH
    if needs_reason:
        why = "a keep against an open flag" if choice.verdict is Verdict.KEEP else f"a decision to {choice.verdict}"
        require_words(choice.reason, f"There has to be a reason for {why}.")
    if choice.verdict is Verdict.TRIM:
        _refuse_unfit_trim(item, choice, now)
    elif choice.level_reach is not None or choice.until is not None or choice.to_use:
        raise BadInput(
            "Only a trim names a level, an end or the use that was seen.", "Leave them out, or decide to trim."
        )
    owning = item.subject is Subject.OWNERSHIP and choice.verdict is Verdict.REVOKE
    if owning != (choice.successor is not None):
        raise BadInput(
            "An account is never left without an owner." if owning else "Only an ownership goes to a successor.",
            "Name who is to own it." if owning else "Leave the successor out.",
            {"successor": "is missing" if owning else "not here"},
        )


def refuse_involved(about: About, decider: UUID | None) -> None:
    """NotAllowed for whoever holds it or gave it."""
    refusal = about.refusal(decider) if decider is not None else None
    if refusal == "holds it":
        raise NotAllowed("Nobody decides on their own access.", "Pass the item on to another reviewer.")
    if refusal == MAY_BE_THE_SAME:
        raise NotAllowed(
            "There is a second record that may be of you, and it holds this access or gave it.",
            "Have an administrator merge the two or identify the login, or pass the item on to another reviewer.",
        )
    if refusal is not None:
        raise NotAllowed("Nobody decides on what they gave.", "Pass the item on to another reviewer.")


def _refuse_unfit_trim(item: Undecided, choice: Choice, now: datetime) -> None:
    if item.subject is Subject.EXPOSURE:
        if choice.level_reach is not None or (choice.until is None) is not choice.to_use:
            raise BadInput(
                "An exposure is kept as intended until a day, or narrowed to the use that was seen.",
                "Give either trim_until or trim_to_use, and no level.",
            )
    elif item.subject not in _TRIMMED:
        raise BadInput(f"A review of this {item.subject} can't trim it.", "Keep it, or revoke it.")
    elif choice.to_use:
        raise BadInput(
            "Only what is open to outsiders is narrowed to the use that was seen.",
            "Give trim_level, trim_until or both.",
        )
    if choice.to_use:
        return
    if choice.level_reach is None and choice.until is None:
        raise BadInput("A trim needs a lower level or an earlier end.", "Give trim_level, trim_until or both.")
    if choice.level_reach is not None and item.reach is not None and choice.level_reach > item.reach:
        raise BadInput(
            "That level goes further than the present one.",
            "Choose a level that reaches less far.",
            {"trim_level": "gives more than there is now"},
        )
    if choice.until is not None and (choice.until <= now or (item.until is not None and choice.until >= item.until)):
        raise BadInput(
            "That end is not earlier than the present one, or it has passed.",
            "Choose a day between today and the present end, or revoke.",
            {"trim_until": "does not shorten the time"},
        )


def refuse_waving_through(verdict: Verdict, flagged: Iterable[str]) -> None:
    """BadInput, with the list, for keeping at one stroke what is flagged: such items are looked at one by one."""
    named = list(flagged)
    if verdict is not Verdict.KEEP or not named:
        return
    shown = "; ".join(named[:10]) + (f"; and {len(named) - 10} more" if len(named) > 10 else "")
    raise BadInput(
        f"What is flagged can't be kept together with others; here that is {len(named)}: {shown}.",
        "Take them out of the selection, and decide each for itself.",
        {"items": f"{len(named)} flagged"},
    )


def fate_of(undecided: Mapping[str, str], subject: Subject, reach: Reach | None) -> Fate:
    """What becomes of an item that nobody decided. Only grants and links can be suspended.

    A session is ended where a grant would be suspended; an ownership, a latch, an accepted flag and an exposure have
    to be decided by somebody, and stay.
    """
    fate = Fate(undecided.get(reach.word if reach else "observe", Fate.KEEP))
    if subject in _TRIMMED:
        return fate
    if subject is Subject.SESSION and fate is not Fate.KEEP:
        return Fate.REVOKE
    return Fate.KEEP


@dataclass(frozen=True, slots=True)
class Pace:
    """How fast and how one-sidedly somebody decided: facts, not a judgement."""

    decided: int
    share_kept: float | None
    seconds: float | None


def pace(moments: Sequence[datetime], kept: int) -> Pace:
    """The share kept, and the median of the seconds between decisions that follow each other within half an hour."""
    ordered = sorted(moments)
    gaps = [b - a for a, b in pairwise(ordered) if b - a <= timedelta(minutes=30)]
    seconds = median(gap.total_seconds() for gap in gaps) if gaps else None
    return Pace(len(ordered), kept / len(ordered) if ordered else None, seconds)
