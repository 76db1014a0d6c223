"""How the end of access is known, worked out from the steps of its revocation. The one place that decides it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from openlatch.core.vocabulary import EndedAs, Proof, StepKind, StepState

# From the surest to the least sure: of several ends, the least sure one describes the whole.
ORDER = tuple(Proof)


@dataclass(frozen=True, slots=True)
class StepOutcome:
    """What came of a step: ``by`` is the person who did or skipped it, or the system that answered."""

    kind: StepKind
    state: StepState
    answer: str
    by: str
    at: datetime | None


@dataclass(frozen=True, slots=True)
class Evidence:
    """How an end is known: the proof, when it was given, by whom or which system, and in which words."""

    proof: Proof
    at: datetime
    by: str
    words: str


def of_steps(own: Sequence[StepOutcome], readings: Sequence[StepOutcome], now: datetime) -> Evidence:
    """How the end of one thing is known, once its own steps and the readings of its account are over.

    A skipped step, or a reading that was skipped or never made, leaves it unproved. A step that a person did is their
    statement, whatever else was read. Only adapter steps followed by a reading are confirmed.
    """
    for proof, decisive in (
        (Proof.UNPROVED, [step for step in (*own, *readings) if step.state is not StepState.DONE]),
        (Proof.STATED, [step for step in own if step.kind is StepKind.BY_HAND]),
        (Proof.CONFIRMED, list(readings)),
    ):
        if decisive:
            return _by(proof, decisive, now)
    return Evidence(Proof.UNPROVED, now, "", "No step looked whether it is gone.")


def _by(proof: Proof, steps: Sequence[StepOutcome], now: datetime) -> Evidence:
    at = max((step.at for step in steps if step.at is not None), default=now)
    return Evidence(proof, at, steps[-1].by, " ".join(dict.fromkeys(s.answer for s in steps if s.answer)))


def of_step(step: StepOutcome, readings: Sequence[StepOutcome]) -> Proof | None:
    """What one step shows by itself; None as long as that is open: a system's answer counts once it was read again."""
    if step.state is StepState.SKIPPED:
        return Proof.UNPROVED
    if step.state is not StepState.DONE:
        return None
    if step.kind is StepKind.BY_HAND:
        return Proof.STATED
    read = step.kind is StepKind.READ_AGAIN or (readings and all(one.state is StepState.DONE for one in readings))
    return Proof.CONFIRMED if read else None


def weakest(proofs: Iterable[Proof]) -> Proof | None:
    """The least sure of several; None for none."""
    return max(proofs, key=ORDER.index, default=None)


def count(proofs: Iterable[Proof]) -> dict[str, int]:
    """How many ends are known in which way, each way named, also those that do not occur."""
    found = Counter(proofs)
    return {proof.value: found[proof] for proof in ORDER}


def in_words(counts: Mapping[str, int]) -> str:
    """Counts as one line: "9 confirmed, 2 stated, 1 unproved". Never a sum."""
    return ", ".join(f"{counts[proof]} {proof}" for proof in ORDER if counts.get(proof)) or "none"


def ended_as(asked: EndedAs, proof: Proof) -> EndedAs:
    """How a grant ended: *revoked* is only said of what is confirmed gone; any other cause stays what it is."""
    return EndedAs(proof.value) if asked is EndedAs.REVOKED and proof is not Proof.CONFIRMED else asked
