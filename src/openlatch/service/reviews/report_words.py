"""What the report of a review says, in words: for the page and for the PDF alike."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import datetime

from openlatch.core.revocations.proof import in_words
from openlatch.core.vocabulary import Proof, Verdict
from openlatch.json_values import JsonView

# Puts a text of the report into its language.
Say = Callable[[str], str]
MOST_ITEMS = 2_000
# What the ways of knowing mean.
KEY = tuple((proof.value, proof.plain) for proof in Proof)
_VERDICTS = {"keep": "kept", "trim": "trimmed", "revoke": "revoked"}
_FATES = {"keep": "kept and flagged", "suspend": "suspended", "revoke": "revoked"}


def access(item: Mapping[str, object]) -> str:
    """Whose access to what an item is about."""
    return f"{item['holder']} in {item['account']}, {item['level']}"


def key(say: Say) -> str:
    """What the ways of knowing mean, in one line."""
    return ". ".join(f"{say(word).capitalize()}: {say(plain)}" for word, plain in KEY) + "."


def summary(evidence: JsonView, say: Say) -> str:
    """What came of the review, in a few sentences."""
    totals, round_ = evidence["totals"], evidence["round"]
    kept, trimmed, revoked = (totals[name] for name in ("kept", "trimmed", "revoked"))
    sentences = [say(f"Items: {len(evidence['items'])}; kept {kept}, trimmed {trimmed}, revoked {revoked}.")]
    if totals["nothing_done"]:
        sentences.append(say(f"Nothing to end: {totals['nothing_done']}."))
    if totals["by_default"]:
        sentences.append(say(f"Undecided at the close: {totals['by_default']}."))
    sentences.append(f"{say('Ended or trimmed:')} {say(in_words(totals['ended']))}.")
    for told, name in (
        ("Opened:", "opened_at"),
        ("Due:", "due_at"),
        ("Closed:", "closed_at"),
        ("Nothing left to do:", "ended_at"),
    ):
        sentences.append(f"{say(told)} {when(round_[name], say)}.")
    return " ".join(sentences)


def scope(evidence: JsonView, say: Say) -> list[tuple[str, str]]:
    """What was reviewed, by whom, and what became of the undecided."""
    covered, round_ = evidence["scope"], evidence["round"]
    line = [
        (place["name"] or say(place["kind"])) + (f" ({place['account_kind']})" if place["account_kind"] else "")
        for place in covered["reviewers"]
    ]
    by, event = round_["schedule"] or say("by hand"), round_["event"]
    found = [
        ("Covers", ", ".join(map(say, covered["covers"]))),
        ("Filter", covered["filter"] or say("everything")),
        (
            "Opened by",
            f"{round_['opened_by'] or 'Open Latch'}, {by}" + (f": {say(event)}" if event else ""),
        ),
        ("Asked in turn", ", ".join([*line, say("the account's owner"), say("an administrator")])),
        ("Decisions act", say(covered["acts"].replace("_", " "))),
        ("Closed by", round_["closed_by"] or say("Open Latch, as planned")),
    ]
    if covered["undecided"]:
        fates = ", ".join(f"{say(reach)}: {say(fate)}" for reach, fate in covered["undecided"].items())
        found.append(("Undecided", f"{fates} ({say(covered['undecided_by'])})" if covered["undecided_by"] else fates))
    if covered["second_from"]:
        found.append(("Second reviewer from severity", str(covered["second_from"])))
    return [(say(term), value) for term, value in found]


def ended(evidence: JsonView) -> list[JsonView]:
    """The items whose access ended, or was to end."""
    return [item for item in evidence["items"] if item["decision"]["verdict"] != Verdict.KEEP]


def decided(item: JsonView, say: Say) -> str:
    """What was decided of an item, by whom and why."""
    decision = item["decision"]
    if decision["fate"]:
        return f"{say('Undecided, so')} {say(_FATES[decision['fate']])}, {when(decision['at'], say)}"
    what = say(_VERDICTS[decision["verdict"]])
    if decision["trim_level"]:
        what += f" {say('to')} {decision['trim_level']}"
    if decision["trim_until"]:
        what += f" {say('until')} {when(decision['trim_until'], say)}"
    if decision.get("trim_to_use"):
        what += f" {say('to the use that was seen')}"
    if decision["successor"]:
        what += f", {say('to be owned by')} {decision['successor']}"
    agreed = f", {say('agreed by')} {decision['seconded_by']}" if decision["seconded_by"] else ""
    why = f": {decision['reason']}" if decision["reason"] else ""
    return f"{what} {say('by')} {decision['by']}, {when(decision['at'], say)}{agreed}{why}"


def when(at: str | None, say: Say) -> str:
    """An instant in UTC."""
    return say(f"{datetime.fromisoformat(at):%-d %b %Y %H:%M} UTC" if at else "never")


def percent(share: float | None) -> str:
    """A share as a whole percentage."""
    return "–" if share is None else f"{share:.0%}"


def seconds(span: float | None) -> str:
    """A span in whole seconds."""
    return "–" if span is None else f"{span:.0f} s"


def proof_lines(item: JsonView, say: Say) -> list[str]:
    """How the end of an item is known, then each step: the system's answer, or who did or skipped it."""
    done = item["carried_out"]
    known = [say(done["proof"]).upper()] if done["proof"] else []
    if known and (done["proved_by"] or done["proved_at"]):
        by = f", {say('by')} {done['proved_by']}" if done["proved_by"] and done["proof"] != Proof.UNPROVED else ""
        known[0] += f"{by}, {when(done['proved_at'], say)}"
    steps = [
        f"{say(s['step'])}: {say(s['answer'] or s['state'])}"
        + (f" ({s['by'] or say('nobody')}, {when(s['at'], say)})" if s["at"] else "")
        for s in done["steps"]
    ]
    return [*known, say(done["outcome"]), *([done["explained"]] if done["explained"] else []), *steps]
