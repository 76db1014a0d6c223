"""The report of a review for people, as one page to read and print."""

from __future__ import annotations

from collections.abc import Sequence

from jinja2 import Environment, PackageLoader, StrictUndefined

from openlatch.core.vocabulary import Proof
from openlatch.json_values import JsonView
from openlatch.service.reviews import report_words


def html(evidence: JsonView, last: JsonView, addenda: Sequence[JsonView] = ()) -> str:
    """The report as one self-contained page of HTML."""
    # Not cached: reports are rare.
    environment = Environment(
        loader=PackageLoader("openlatch.service.reviews", "."), autoescape=True, undefined=StrictUndefined
    )
    access = {item["position"]: report_words.access(item) for item in evidence["items"]}
    return environment.get_template("report.html").render(
        e=evidence,
        last=last,
        addenda=addenda,
        proof=report_words.proof_lines,
        mark=lambda item: Proof(item["carried_out"]["proof"]).mark if item["carried_out"]["proof"] else "",
        summary=report_words.summary(evidence),
        scope=report_words.scope(evidence),
        percent=report_words.percent,
        seconds=report_words.seconds,
        when=report_words.when,
        decided=report_words.decided,
        access=access.__getitem__,
        ended=report_words.ended(evidence),
        items=evidence["items"][: report_words.MOST_ITEMS],
        key=report_words.KEY,
        left_out=max(0, len(evidence["items"]) - report_words.MOST_ITEMS),
    )
