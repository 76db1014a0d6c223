"""The report of a review for people: HTML to read and print, and the same as PDF."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from importlib.resources import files

from fpdf import FPDF
from fpdf.enums import TableBordersLayout, TextEmphasis
from fpdf.fonts import FontFace
from jinja2 import Environment, PackageLoader, StrictUndefined

from openlatch.core.revocations.proof import in_words
from openlatch.core.vocabulary import Proof
from openlatch.json_values import JsonView

MOST_ITEMS = 2_000
_FONT = "Source"
_GREEN, _SOFT = (31, 77, 70), (74, 86, 82)
_VERDICTS = {"keep": "kept", "trim": "trimmed", "revoke": "revoked"}
_FATES = {"keep": "kept and flagged", "suspend": "suspended", "revoke": "revoked"}


def html(evidence: JsonView, last: JsonView, addenda: Sequence[JsonView] = ()) -> str:
    """The report as one self-contained page of HTML."""
    # Not cached: reports are rare.
    environment = Environment(
        loader=PackageLoader("openlatch.service.reviews", "."), autoescape=True, undefined=StrictUndefined
    )
    access = {item["position"]: _access(item) for item in evidence["items"]}
    return environment.get_template("report.html").render(
        e=evidence,
        last=last,
        addenda=addenda,
        proof=_proof_lines,
        mark=lambda item: Proof(item["carried_out"]["proof"]).mark if item["carried_out"]["proof"] else "",
        summary=_summary(evidence),
        scope=_scope(evidence),
        percent=_percent,
        seconds=_seconds,
        when=_when,
        decided=_decided,
        access=access.__getitem__,
        ended=_ended(evidence),
        items=evidence["items"][:MOST_ITEMS],
        key=_KEY,
        left_out=max(0, len(evidence["items"]) - MOST_ITEMS),
    )


def _access(item: Mapping[str, object]) -> str:
    return f"{item['holder']} in {item['account']}, {item['level']}"


def _summary(evidence: JsonView) -> str:
    totals, round_ = evidence["totals"], evidence["round"]
    said = f"{totals['kept']} kept, {totals['trimmed']} trimmed and {totals['revoked']} revoked"
    nothing = f", and for {totals['nothing_done']} there was nothing to end" if totals["nothing_done"] else ""
    more = f"; {totals['by_default']} of them undecided at the close" if totals["by_default"] else ""
    return (
        f"Of {len(evidence['items'])} items {said}{nothing}{more}. Ended or trimmed: {in_words(totals['ended'])}. "
        f"Opened {_when(round_['opened_at'])}, due "
        f"{_when(round_['due_at'])}, closed {_when(round_['closed_at'])}, nothing left to do "
        f"{_when(round_['ended_at'])}."
    )


def _scope(evidence: JsonView) -> list[tuple[str, str]]:
    scope, round_ = evidence["scope"], evidence["round"]
    line = [
        (place["name"] or place["kind"]) + (f" (of {place['account_kind']})" if place["account_kind"] else "")
        for place in scope["reviewers"]
    ]
    by, event = round_["schedule"] or "by hand", round_["event"]
    found = [
        ("Covers", ", ".join(scope["covers"])),
        ("Filter", scope["filter"] or "everything"),
        (
            "Opened",
            f"by {round_['opened_by'] or 'Open Latch'}, {by}" + (f": {event}" if event else ""),
        ),
        ("Asked in turn", ", ".join([*line, "the account's owner", "an administrator"])),
        ("Decisions act", scope["acts"].replace("_", " ")),
        ("Closed by", round_["closed_by"] or "Open Latch, as planned"),
    ]
    if scope["undecided"]:
        fates = ", ".join(f"{reach}: {fate}" for reach, fate in scope["undecided"].items())
        found.append(("Undecided", f"{fates} ({scope['undecided_by']})" if scope["undecided_by"] else fates))
    if scope["second_from"]:
        found.append(("Second reviewer", f"from severity {scope['second_from']} of 4"))
    return found


def _ended(evidence: JsonView) -> list[JsonView]:
    return [item for item in evidence["items"] if item["decision"]["verdict"] != "keep"]


def _decided(item: JsonView) -> str:
    decision = item["decision"]
    if decision["fate"]:
        return f"Undecided, so {_FATES[decision['fate']]} {_when(decision['at'])}"
    what = _VERDICTS[decision["verdict"]]
    if decision["trim_level"]:
        what += f" to {decision['trim_level']}"
    if decision["trim_until"]:
        what += f" until {_when(decision['trim_until'])}"
    if decision.get("trim_to_use"):
        what += " to the use that was seen"
    if decision["successor"]:
        what += f", to be owned by {decision['successor']}"
    agreed = f", {decision['seconded_by']} agreed" if decision["seconded_by"] else ""
    why = f": {decision['reason']}" if decision["reason"] else ""
    return f"{what} by {decision['by']}, {_when(decision['at'])}{agreed}{why}"


def _when(at: str | None) -> str:
    return f"{datetime.fromisoformat(at):%-d %b %Y %H:%M} UTC" if at else "never"


def _percent(share: float | None) -> str:
    return "–" if share is None else f"{share:.0%}"


def _seconds(span: float | None) -> str:
    return "–" if span is None else f"{span:.0f} s"


# PDF.


class _Pages(FPDF):
    """Pages with the review's name at the top and page numbers at the bottom."""

    def __init__(self, name: str) -> None:
        super().__init__(format="A4")
        self.name = name
        self.set_margins(18, 18, 18)
        self.set_auto_page_break(True, 18)
        for style, file in (("", "Regular"), ("B", "Semibold")):
            face = files("font_source_sans_pro").joinpath("files", f"SourceSansPro-{file}.ttf")
            self.add_font(_FONT, style, str(face))

    def header(self) -> None:
        if self.page_no() > 1:
            self.set_font(_FONT, size=8)
            self.set_text_color(*_SOFT)
            self.cell(0, 5, self.name, new_x="LMARGIN", new_y="NEXT")
            self.ln(2)

    def footer(self) -> None:
        self.set_y(-14)
        self.set_font(_FONT, size=8)
        self.set_text_color(*_SOFT)
        self.cell(0, 5, f"{self.page_no()} of {{nb}}", align="R")


def pdf(evidence: JsonView, last: JsonView, addenda: Sequence[JsonView] = ()) -> bytes:
    """The report as PDF; byte for byte the same for the same evidence."""
    round_ = evidence["round"]
    pages = _Pages(round_["name"])
    pages.set_creation_date(datetime.fromisoformat(round_["ended_at"]))
    pages.set_title(f"{round_['name']}: evidence of a review")
    pages.set_author(evidence["organisation"]["name"])
    pages.set_creator("Open Latch")
    pages.set_lang("en")
    pages.add_page()
    _line(pages, f"{evidence['organisation']['name']} · evidence of an access review", 9, soft=True)
    _line(pages, round_["name"], 20, bold=True)
    _line(pages, _summary(evidence), 10)
    if addenda:
        _head(pages, "Addenda: what came to light after the review had ended")
        since = [(x["item"], _when(x["at"]), x["what"]) for x in addenda]
        _table(pages, ("Item", "When", "What"), since, (14, 36, 124))
    _head(pages, "Scope")
    _table(pages, (), [(term, value) for term, value in _scope(evidence)], (36, 138))
    _head(pages, "Completeness")
    _line(pages, evidence["completeness"]["statement"], 10)
    kinds = [
        (p["kind"], p["live"], p["not_matched"], p["matched"], p["urgent"], p["items"])
        for p in evidence["completeness"]["population"]
    ]
    heads = ("Kind", "Live", "Not in scope", "In scope", "Besides", "Items")
    _table(pages, heads, kinds, (49, 25, 25, 25, 25, 25))
    _head(pages, "Who decided")
    reviewers = [
        (
            r["name"] or "Nobody",
            r["items"],
            r["decided"],
            r["by_others"],
            r["by_default"],
            r["kept"],
            _percent(r["share_kept"]),
            _seconds(r["seconds_between"]),
        )
        for r in evidence["reviewers"]
    ]
    columns = ("Reviewer", "Assigned", "Decided", "By others", "By nobody", "Kept", "Share kept", "Between")
    _table(pages, columns, reviewers, (40, 20, 19, 20, 20, 16, 21, 18))
    _head(pages, "Exceptions")
    access = {item["position"]: _access(item) for item in evidence["items"]}
    exceptions = [(x["position"], access[x["position"]], x["what"]) for x in evidence["exceptions"]]
    _table(pages, ("Item", "Access", "What"), exceptions, (14, 70, 90))
    _head(pages, "What was ended or trimmed, and how that is known")
    _line(pages, _KEY, 9, soft=True)
    ended = [(i["position"], _access(i), _decided(i), "\n".join(_proof_lines(i))) for i in _ended(evidence)]
    _table(pages, ("Item", "Access", "Decision", "How it is known"), ended, (14, 46, 48, 66))
    if evidence["coverage"]:
        _head(pages, "What readings of the systems looked at")
        covered = [
            (c["account"], ", ".join(c["looked_at"]), "; ".join(c["not_looked_at"]) or "nothing that is known")
            for c in evidence["coverage"]
        ]
        _table(pages, ("Account", "Looked at", "Not looked at"), covered, (40, 62, 72))
    _head(pages, "Every item")
    rows = [(i["position"], i["holder"], i["account"], i["level"], _decided(i)) for i in evidence["items"][:MOST_ITEMS]]
    _table(pages, ("Item", "Holder", "Account", "Level", "Decision"), rows, (14, 34, 36, 26, 64))
    if len(evidence["items"]) > MOST_ITEMS:
        _line(pages, f"{len(evidence['items']) - MOST_ITEMS} more items are in items.csv and evidence.json.", 10)
    _head(pages, "How to check this")
    _line(
        pages,
        f"Run “openlatch evidence verify” on the file that this report came in. The review ended at journal "
        f"position {last['position']}, whose hash is {last['hash']}. The hash over the items as they were when it "
        f"opened is {evidence['items_hash']}.",
        10,
    )
    return bytes(pages.output())


_KEY = ". ".join(f"{proof.value.capitalize()}: {proof.plain}" for proof in Proof) + "."


def _proof_lines(item: JsonView) -> list[str]:
    """How the end of an item is known, then each step: the system's answer, or who did or skipped it."""
    done = item["carried_out"]
    known = [done["proof"].upper()] if done["proof"] else []
    if known and (done["proved_by"] or done["proved_at"]):
        by = f", by {done['proved_by']}" if done["proved_by"] and done["proof"] != Proof.UNPROVED else ""
        known[0] += f"{by}, {_when(done['proved_at'])}"
    steps = [
        f"{s['step']}: {s['answer'] or s['state']}" + (f" ({s['by'] or 'nobody'}, {_when(s['at'])})" if s["at"] else "")
        for s in done["steps"]
    ]
    return [*known, done["outcome"], *([done["explained"]] if done["explained"] else []), *steps]


def _line(pages: FPDF, text: str, size: float, bold: bool = False, soft: bool = False) -> None:
    pages.set_font(_FONT, "B" if bold else "", size)
    pages.set_text_color(*(_SOFT if soft else (29, 35, 33)))
    pages.multi_cell(0, size * 0.5, text, new_x="LMARGIN", new_y="NEXT", align="L")


def _head(pages: FPDF, text: str) -> None:
    pages.ln(5)
    if pages.get_y() > 250:
        pages.add_page()
    _line(pages, text, 13, bold=True)
    pages.set_draw_color(*_GREEN)
    pages.line(pages.l_margin, pages.get_y() + 0.6, pages.w - pages.r_margin, pages.get_y() + 0.6)
    pages.ln(2)


def _table(pages: FPDF, heads: Sequence[str], rows: Iterable[Sequence[object]], widths: tuple[int, ...]) -> None:
    listed = [tuple("" if cell is None else str(cell) for cell in row) for row in rows]
    if not listed:
        _line(pages, "None.", 10)
        return
    pages.set_font(_FONT, size=8.5)
    pages.set_text_color(29, 35, 33)
    pages.set_draw_color(213, 219, 216)
    with pages.table(
        col_widths=widths,
        line_height=4.2,
        padding=(0.6, 1.5, 0.6, 0),
        borders_layout=TableBordersLayout.HORIZONTAL_LINES,
        first_row_as_headings=bool(heads),
        headings_style=FontFace(emphasis=TextEmphasis.B, color=_SOFT),
        text_align="LEFT",
    ) as table:
        for cells in [tuple(heads), *listed] if heads else listed:
            row = table.row()
            for cell in cells:
                row.cell(cell)
