"""The calls about figures over time."""

from __future__ import annotations

from flask import Response

from openlatch import schemas
from openlatch.api.routing import api
from openlatch.service.trends import letter, page
from openlatch.service.unit import Unit


@api.add("GET", "/trends", "Figures over time", schemas.Trends, query=schemas.TrendsQuery)
def get_trends(unit: Unit, query: schemas.TrendsQuery) -> schemas.Trends:
    """Risk, departures, revocations, reviews, exposures and unrecorded access, and what moved them in each period."""
    return page.page(unit, query)


@api.add("GET", "/trends/export", "Figures over time as CSV", None, query=schemas.TrendsQuery)
def take_trends_away(unit: Unit, query: schemas.TrendsQuery) -> Response:
    """A line for each period."""
    text = page.write_csv(page.page(unit, query))
    headers = {"Content-Disposition": f'attachment; filename="trends-{unit.now:%Y-%m-%d}.csv"'}
    return Response(text, content_type="text/csv; charset=utf-8", headers=headers)


@api.add(
    "POST",
    "/me/trends",
    "Get the monthly letter of figures, or not",
    schemas.Done,
    body=schemas.WantLetter,
)
def want_trends(unit: Unit, body: schemas.WantLetter) -> schemas.Done:
    """For those who see everything; sent in the first days of a month."""
    letter.set_wanted(unit, body.wants)
    return schemas.Done(done=True)
