"""The calls for what needs a person today, and for days as people type them."""

from __future__ import annotations

from openlatch import schemas
from openlatch.api.routing import api
from openlatch.core import glossary
from openlatch.core.day_words import read_day
from openlatch.service import today as today_page
from openlatch.service.unit import Unit


@api.add("GET", "/today", "What needs a person today", schemas.Today)
def get_today(unit: Unit) -> schemas.Today:
    """Of what you may see."""
    return today_page.page(unit)


@api.add("GET", "/words", "The words of the register", schemas.Glossary)
def get_words(unit: Unit) -> schemas.Glossary:
    """With their meanings; one word has one meaning."""
    return schemas.Glossary(
        words=[schemas.GlossaryWord(word=w, meaning=text) for w, text in sorted(glossary.WORDS.items())]
    )


@api.add("GET", "/days", "The day that somebody typed", schemas.DayRead, query=schemas.DayWords, inside=True)
def get_day(unit: Unit, query: schemas.DayWords) -> schemas.DayRead:
    """As in "31 Mar", "in 6 weeks", "friday", "end of June"; today is where the organisation is."""
    today = unit.now.astimezone(unit.zone).date()
    day = read_day(query.words, today, is_past=query.past, is_month_first=query.month_first)
    return schemas.DayRead(day=day)
