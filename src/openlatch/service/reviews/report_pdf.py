"""The report of a review as PDF. Needs the packages of the extra *report*."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime
from importlib.resources import files

from fpdf import FPDF
from fpdf.enums import TableBordersLayout, TextEmphasis
from fpdf.fonts import FontFace

from openlatch.json_values import JsonView
from openlatch.languages import ENGLISH
from openlatch.service.reviews.report_words import (
    MOST_ITEMS,
    Say,
    access,
    decided,
    ended,
    key,
    percent,
    proof_lines,
    scope,
    seconds,
    summary,
    when,
)

_FONT = "Source"
_GREEN, _SOFT = (31, 77, 70), (74, 86, 82)


class _Pages(FPDF):
    """Pages with the review's name at the top and page numbers at the bottom."""

    def __init__(self, name: str, say: Say) -> None:
        super().__init__(format="A4")
        self.name, self.say = name, say
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
        self.cell(0, 5, f"{self.page_no()} / {{nb}}", align="R")


def pdf(
    evidence: JsonView, last: JsonView, addenda: Sequence[JsonView] = (), say: Say = str, language: str = ENGLISH
) -> bytes:
    """The report as PDF; byte for byte the same for the same evidence. Names and reasons stay as they are."""
    round_ = evidence["round"]
    pages = _Pages(round_["name"], say)
    pages.set_creation_date(datetime.fromisoformat(round_["ended_at"]))
    pages.set_title(f"{round_['name']}: {say('evidence of a review')}")
    pages.set_author(evidence["organisation"]["name"])
    pages.set_creator("Open Latch")
    pages.set_lang(language)
    pages.add_page()
    _line(pages, f"{evidence['organisation']['name']} · {say('evidence of an access review')}", 9, soft=True)
    _line(pages, round_["name"], 20, bold=True)
    _line(pages, summary(evidence, say), 10)
    if addenda:
        _head(pages, "Addenda: what came to light after the review had ended")
        since = [(x["item"], when(x["at"], say), say(x["what"])) for x in addenda]
        _table(pages, ("Item", "When", "What"), since, (14, 36, 124))
    _head(pages, "Scope")
    _table(pages, (), [(term, value) for term, value in scope(evidence, say)], (36, 138))
    _head(pages, "Completeness")
    _line(pages, say(evidence["completeness"]["statement"]), 10)
    kinds = [
        (say(p["kind"]), p["live"], p["not_matched"], p["matched"], p["urgent"], p["items"])
        for p in evidence["completeness"]["population"]
    ]
    heads = ("Kind", "Live", "Not in scope", "In scope", "Besides", "Items")
    _table(pages, heads, kinds, (49, 25, 25, 25, 25, 25))
    _head(pages, "Who decided")
    reviewers = [
        (
            r["name"] or say("Nobody"),
            r["items"],
            r["decided"],
            r["by_others"],
            r["by_default"],
            r["kept"],
            percent(r["share_kept"]),
            seconds(r["seconds_between"]),
        )
        for r in evidence["reviewers"]
    ]
    columns = ("Reviewer", "Assigned", "Decided", "By others", "By nobody", "Kept", "Share kept", "Between")
    _table(pages, columns, reviewers, (40, 20, 19, 20, 20, 16, 21, 18))
    _head(pages, "Exceptions")
    whose = {item["position"]: access(item) for item in evidence["items"]}
    exceptions = [(x["position"], whose[x["position"]], say(x["what"])) for x in evidence["exceptions"]]
    _table(pages, ("Item", "Access", "What"), exceptions, (14, 70, 90))
    _head(pages, "What was ended or trimmed, and how that is known")
    _line(pages, key(say), 9, soft=True)
    proofs = [(i["position"], access(i), decided(i, say), "\n".join(proof_lines(i, say))) for i in ended(evidence)]
    _table(pages, ("Item", "Access", "Decision", "How it is known"), proofs, (14, 46, 48, 66))
    if evidence["coverage"]:
        _head(pages, "What readings of the systems looked at")
        covered = [
            (
                c["account"],
                ", ".join(map(say, c["looked_at"])),
                "; ".join(map(say, c["not_looked_at"])) or say("nothing that is known"),
            )
            for c in evidence["coverage"]
        ]
        _table(pages, ("Account", "Looked at", "Not looked at"), covered, (40, 62, 72))
    _head(pages, "Every item")
    rows = [
        (i["position"], i["holder"], i["account"], i["level"], decided(i, say)) for i in evidence["items"][:MOST_ITEMS]
    ]
    _table(pages, ("Item", "Holder", "Account", "Level", "Decision"), rows, (14, 34, 36, 26, 64))
    if len(evidence["items"]) > MOST_ITEMS:
        _line(
            pages,
            say(f"{len(evidence['items']) - MOST_ITEMS} more items are in items.csv and evidence.json."),
            10,
        )
    _head(pages, "How to check this")
    for told, value in (
        ("Run this command on the file that this report came in:", "openlatch evidence verify"),
        (
            "The review ended at this journal position, with the hash of that entry:",
            f"{last['position']}, {last['hash']}",
        ),
        ("The hash over the items as they were when the review opened:", evidence["items_hash"]),
    ):
        _line(pages, f"{say(told)} {value}", 10)
    return bytes(pages.output())


def _line(pages: FPDF, text: str, size: float, bold: bool = False, soft: bool = False) -> None:
    pages.set_font(_FONT, "B" if bold else "", size)
    pages.set_text_color(*(_SOFT if soft else (29, 35, 33)))
    pages.multi_cell(0, size * 0.5, text, new_x="LMARGIN", new_y="NEXT", align="L")


def _head(pages: _Pages, text: str) -> None:
    pages.ln(5)
    if pages.get_y() > 250:
        pages.add_page()
    _line(pages, pages.say(text), 13, bold=True)
    pages.set_draw_color(*_GREEN)
    pages.line(pages.l_margin, pages.get_y() + 0.6, pages.w - pages.r_margin, pages.get_y() + 0.6)
    pages.ln(2)


def _table(pages: _Pages, heads: Sequence[str], rows: Iterable[Sequence[object]], widths: tuple[int, ...]) -> None:
    listed = [tuple("" if cell is None else str(cell) for cell in row) for row in rows]
    if not listed:
        _line(pages, pages.say("None."), 10)
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
        for cells in [tuple(map(pages.say, heads)), *listed] if heads else listed:
            row = table.row()
            for cell in cells:
                row.cell(cell)
