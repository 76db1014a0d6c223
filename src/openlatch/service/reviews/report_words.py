"""What the report of a review says, in words: for the page and for the PDF alike."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

from openlatch.core.revocations.proof import in_words
from openlatch.core.vocabulary import Proof, Verdict
from openlatch.json_values import JsonView

MOST_ITEMS = 2_000
# What the ways of knowing mean.
KEY = ". ".join(f"{proof.value.capitalize()}: {proof.plain}" for proof in Proof) + "."
_VERDICTS = {"keep": "kept", "trim": "trimmed", "revoke": "revoked"}
_FATES = {"keep": "kept and flagged", "suspend": "suspended", "revoke": "revoked"}


def access(item: Mapping[str, object]) -> str:
    """Whose access to what an item is about."""
    return f"{item['holder']} in {item['account']}, {item['level']}"


def summary(evidence: JsonView) -> str:
    """What came of the review, in one sentence."""
    totals, round_ = evidence["totals"], evidence["round"]
    said = f"{totals['kept']} kept, {totals['trimmed']} trimmed and {totals['revoked']} revoked"
    nothing = f", and for {totals['nothing_done']} there was nothing to end" if totals["nothing_done"] else ""
    more = f"; {totals['by_default']} of them undecided at the close" if totals["by_default"] else ""
    return (
        f"Of {len(evidence['items'])} items {said}{nothing}{more}. Ended or trimmed: {in_words(totals['ended'])}. "
        f"Opened {when(round_['opened_at'])}, due "
        f"{when(round_['due_at'])}, closed {when(round_['closed_at'])}, nothing left to do "
        f"{when(round_['ended_at'])}."
    )


def scope(evidence: JsonView) -> list[tuple[str, str]]:
    """What was reviewed, by whom, and what became of the undecided."""
    covered, round_ = evidence["scope"], evidence["round"]
    line = [
        (place["name"] or place["kind"]) + (f" (of {place['account_kind']})" if place["account_kind"] else "")
        for place in covered["reviewers"]
    ]
    by, event = round_["schedule"] or "by hand", round_["event"]
    found = [
        ("Covers", ", ".join(covered["covers"])),
        ("Filter", covered["filter"] or "everything"),
        (
            "Opened",
            f"by {round_['opened_by'] or 'Open Latch'}, {by}" + (f": {event}" if event else ""),
        ),
        ("Asked in turn", ", ".join([*line, "the account's owner", "an administrator"])),
        ("Decisions act", covered["acts"].replace("_", " ")),
        ("Closed by", round_["closed_by"] or "Open Latch, as planned"),
    ]
    if covered["undecided"]:
        fates = ", ".join(f"{reach}: {fate}" for reach, fate in covered["undecided"].items())
        found.append(("Undecided", f"{fates} ({covered['undecided_by']})" if covered["undecided_by"] else fates))
    if covered["second_from"]:
        found.append(("Second reviewer", f"from severity {covered['second_from']} of 4"))
    return found


def ended(evidence: JsonView) -> list[JsonView]:
    """The items whose access ended, or was to end."""
    return [item for item in evidence["items"] if item["decision"]["verdict"] != Verdict.KEEP]


def decided(item: JsonView) -> str:
    """What was decided of an item, by whom and why."""
    decision = item["decision"]
    if decision["fate"]:
        return f"Undecided, so {_FATES[decision['fate']]} {when(decision['at'])}"
    what = _VERDICTS[decision["verdict"]]
    if decision["trim_level"]:
        what += f" to {decision['trim_level']}"
    if decision["trim_until"]:
        what += f" until {when(decision['trim_until'])}"
    if decision.get("trim_to_use"):
        what += " to the use that was seen"
    if decision["successor"]:
        what += f", to be owned by {decision['successor']}"
    agreed = f", {decision['seconded_by']} agreed" if decision["seconded_by"] else ""
    why = f": {decision['reason']}" if decision["reason"] else ""
    return f"{what} by {decision['by']}, {when(decision['at'])}{agreed}{why}"


def when(at: str | None) -> str:
    """An instant in UTC."""
    return f"{datetime.fromisoformat(at):%-d %b %Y %H:%M} UTC" if at else "never"


def percent(share: float | None) -> str:
    """A share as a whole percentage."""
    return "–" if share is None else f"{share:.0%}"


def seconds(span: float | None) -> str:
    """A span in whole seconds."""
    return "–" if span is None else f"{span:.0f} s"


def proof_lines(item: JsonView) -> list[str]:
    """How the end of an item is known, then each step: the system's answer, or who did or skipped it."""
    done = item["carried_out"]
    known = [done["proof"].upper()] if done["proof"] else []
    if known and (done["proved_by"] or done["proved_at"]):
        by = f", by {done['proved_by']}" if done["proved_by"] and done["proof"] != Proof.UNPROVED else ""
        known[0] += f"{by}, {when(done['proved_at'])}"
    steps = [
        f"{s['step']}: {s['answer'] or s['state']}" + (f" ({s['by'] or 'nobody'}, {when(s['at'])})" if s["at"] else "")
        for s in done["steps"]
    ]
    return [*known, done["outcome"], *([done["explained"]] if done["explained"] else []), *steps]
