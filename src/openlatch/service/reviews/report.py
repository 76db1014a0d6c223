"""The report of a review for people, as one page to read and print."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from jinja2 import Environment, PackageLoader, StrictUndefined

from openlatch.core.vocabulary import Proof
from openlatch.json_values import JsonView
from openlatch.languages import ENGLISH
from openlatch.service.reviews import report_words
from openlatch.service.reviews.report_words import Say


def html(
    evidence: JsonView, last: JsonView, addenda: Sequence[JsonView] = (), say: Say = str, language: str = ENGLISH
) -> str:
    """The report as one self-contained page of HTML; what names and reasons say stays as it is."""
    # Not cached: reports are rare.
    environment = Environment(
        loader=PackageLoader("openlatch.service.reviews", "."), autoescape=True, undefined=StrictUndefined
    )
    environment.filters["said"] = say
    access = {item["position"]: report_words.access(item) for item in evidence["items"]}
    return environment.get_template("report.html").render(
        e=evidence,
        last=last,
        addenda=addenda,
        say=say,
        language=language,
        proof=partial(report_words.proof_lines, say=say),
        mark=lambda item: Proof(item["carried_out"]["proof"]).mark if item["carried_out"]["proof"] else "",
        summary=report_words.summary(evidence, say),
        scope=report_words.scope(evidence, say),
        percent=report_words.percent,
        seconds=report_words.seconds,
        when=partial(report_words.when, say=say),
        decided=partial(report_words.decided, say=say),
        access=access.__getitem__,
        ended=report_words.ended(evidence),
        items=evidence["items"][: report_words.MOST_ITEMS],
        key=report_words.key(say),
        left_out=max(0, len(evidence["items"]) - report_words.MOST_ITEMS),
    )
