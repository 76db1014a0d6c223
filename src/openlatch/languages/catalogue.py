"""One language: what each English sentence is in it, found by the words between the parts that change."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache
from pathlib import Path
from typing import NamedTuple

from babel import Locale
from babel.dates import format_date, format_datetime
from babel.messages.pofile import read_po
from babel.numbers import format_decimal

from openlatch.languages import ENGLISH

# Flags of sentences in the file with few words of their own: their parts have to be phrases that it has too, or they
# can be any names.
OF_PHRASES, OF_NAMES = "of-phrases", "of-names"
_FOLDER = Path(__file__).parent
_PART = re.compile(r"\{(\w+)\}")
_WORD = re.compile(r"[\w'’]+")
_DAY = re.compile(r"(\d{1,2} [A-Z][a-z]+ \d{4})(?:,? (?:at )?(\d\d:\d\d)( UTC)?)?")
_COUNT = re.compile(r"\d{1,3}(,\d{3})+")
_NUMBER = re.compile(r"[\d,.]+")
_FIGURES = re.compile(r"[-+\d,.:]*")
# Names of parts that can only be a number.
_COUNTING = re.compile(r"n\d*")
# What stands in quotes is a name, except these, which are sentences of ours.
_OURS_IN_QUOTES = ("latch",)
# What somebody wrote stands after a colon by these names.
_THEIRS = ("reason", "strip", "rstrip", "question", "words", "said", "in_one_line")
# Parts that are one word of ours: states, roles, reaches and the like. By other names a single word is a name.
_OF_ONE_WORD = frozenset(
    {
        *(
            "state",
            "role",
            "before",
            "verdict",
            "reach",
            "word",
            "sensitivity",
            "severity",
            "how",
            "mode",
            "does",
            "said",
        ),
        *("replace", "get", "article", "subject", "proof", "decision", "ended_as", "standing", "day", "first", "last"),
    }
)
# Where one sentence ends and the next begins.
_BETWEEN = re.compile(r"(?<=[.!?]) (?=[A-Z“])")
# How a clause begins that belongs to what is before it.
_CLAUSE = re.compile(r"(and|or|but|who|which|whose|that|where|when|as|so|then) ")
# What the name of somebody or something seldom has in it.
_NO_NAME = re.compile(r"(^| )(the|of|and|is|it|be|what|that|not|no|been|there|with|can|are)( |$)|”: |, ")
# Longer texts are documents; what is named within what is named is at most this deep; so many phrases are in one text.
_LONGEST, _DEEPEST, _MOST_PHRASES = 2000, 3, 20
# So many sentences are tried for one text, which somebody may have made up to keep this busy.
_MOST_TRIES = 15_000


class Sentence(NamedTuple):
    """A sentence of the catalogue's file: in English, in its language, and how it is to be taken."""

    english: str
    meaning: str
    flags: Iterable[str] = ()


class Filled(NamedTuple):
    """A text by one sentence of the catalogue; the greater, the likelier it is the one that is meant."""

    # Whether no part that is not known reads like a sentence.
    is_sure: bool
    length: int
    known: int
    said: str


@dataclass(frozen=True, slots=True)
class Pattern:
    """A sentence with parts that change: the pieces between them, the names of the parts, and what it is here.

    Parts with nothing but a space between them have their names together.
    """

    pieces: tuple[str, ...]
    names: tuple[tuple[str, ...], ...]
    meaning: str
    flags: frozenset[str] = frozenset()

    @classmethod
    def of(cls, english: str, meaning: str, flags: Iterable[str] = ()) -> Pattern:
        """A sentence of the catalogue."""
        pieces, names = _PART.split(english)[::2], _PART.findall(english)
        together: list[tuple[str, ...]] = []
        for at, name in enumerate(names):
            if together and not pieces[at].strip():
                together[-1] += (name,)
            else:
                together.append((name,))
        inner = (piece for piece in pieces[1:-1] if piece.strip())
        return cls((pieces[0], *inner, pieces[-1]), tuple(together), meaning, frozenset(flags))

    @property
    def words(self) -> list[str]:
        """The words that are always in it."""
        return _WORD.findall(" ".join(self.pieces))

    @property
    def whole_words(self) -> list[str]:
        """Those of them that touch no part, and so are words of every text that it is."""
        spaced = "\0".join(self.pieces)
        return [
            found[0]
            for found in _WORD.finditer(spaced)
            if "\0" not in (spaced[found.start() - 1 : found.start()], spaced[found.end() : found.end() + 1])
        ]

    @property
    def length(self) -> int:
        """How many letters of it are given."""
        return sum(map(len, self.pieces))

    @property
    def is_weak(self) -> bool:
        """Whether so little of it is given that names of people and things can read like it."""
        given = "".join(self.pieces)
        counts = any(_COUNTING.fullmatch(name) for names in self.names for name in names)
        if counts or OF_NAMES in self.flags or "“" in given or self.pieces[0][:1] in (" ", ",", ";"):
            return False
        return len(self.words) + 2 * any(mark in given for mark in ":(") < (2 if self.pieces[0] else 3)

    @property
    def is_plain(self) -> bool:
        """Whether enough of it is given to be sure of it, whatever its parts read like."""
        return len(self.words) > (1 if OF_NAMES in self.flags else 2) or "“" in "".join(self.pieces)

    def matches(self, text: str) -> Iterator[list[str]]:
        """What the parts are in a text, by the first and by the last places of the pieces; nothing when it is another
        sentence. A text of any make takes two passes.
        """
        first, last = self.pieces[0], self.pieces[-1]
        if not text.startswith(first) or not text.endswith(last) or len(text) < self.length:
            return
        middle = text[len(first) : len(text) - len(last)]
        inner = self.pieces[1:-1]
        forth = _cut(middle, inner)
        back = [part[::-1] for part in _cut(middle[::-1], [piece[::-1] for piece in reversed(inner)])][::-1]
        for parts in (forth, back) if back != forth else (forth,):
            if parts and all(
                _NUMBER.fullmatch(part) or not _COUNTING.fullmatch(names[0])
                for names, part in zip(self.names, parts, strict=True)
            ):
                yield parts


def _cut(text: str, pieces: Sequence[str]) -> list[str]:
    """A text cut where each piece comes first after the one before; empty when one does not come."""
    found = []
    for piece in pieces:
        before, cut, text = text.partition(piece)
        if not cut:
            return []
        found.append(before)
    return [*found, text]


class Catalogue:
    """A language by its sentences."""

    def __init__(self, language: str, sentences: Iterable[Sentence]) -> None:
        self.language = language
        self.locale = Locale.parse(language)
        told = {one.english: one for one in sentences}
        self.whole = {english: one.meaning for english, one in told.items() if not _PART.search(english)}
        patterns = [Pattern.of(*one) for english, one in told.items() if _PART.search(english)]
        seldom = Counter(word for pattern in patterns for word in set(pattern.whole_words))
        self._by_word: defaultdict[str, list[Pattern]] = defaultdict(list)
        for pattern in patterns:
            self._by_word[min(pattern.whole_words, key=lambda word: (seldom[word], word), default="")].append(pattern)
        self._said = lru_cache(maxsize=20_000)(lambda text: _Text(self).said(text))
        self._partly_said = lru_cache(maxsize=5_000)(lambda text: _Text(self).as_far_as_known(text))

    def say(self, text: str) -> str:
        """A text of the service in this language; English where the catalogue lacks it."""
        is_document = text.startswith(("{", "<"))
        return text if is_document or not 0 < len(text) <= _LONGEST else self._said(text) or self._partly_said(text)

    def knows(self, text: str) -> bool:
        """Whether all of a text is in the catalogue."""
        return bool(text) and len(text) <= _LONGEST and self._said(text) is not None

    def candidates(self, text: str) -> set[Pattern]:
        """The sentences that a text may be: they have a word of it that few others have."""
        return {pattern for word in {*_WORD.findall(text), ""} for pattern in self._by_word.get(word, ())}


class _Text:
    """One text while it is worked out. Its parts come again and again, and it may take only so long."""

    def __init__(self, catalogue: Catalogue) -> None:
        self._catalogue = catalogue
        self._known: dict[tuple[str, int], Filled | None] = {}
        self._tries = 0

    def said(self, text: str) -> str | None:
        """All of a text; None where the catalogue lacks some of it."""
        day = _day(text, self._catalogue.locale)
        found = None if day else self._found(text, 0)
        return day or (found and found.said)

    def as_far_as_known(self, text: str) -> str:
        """Those sentences of a text that are in the catalogue, and the others as they are."""
        ones = _BETWEEN.split(text)
        return " ".join(one if found is None else found.said for one in ones for found in (self._found(one, 0),))

    def _found(self, text: str, depth: int) -> Filled | None:
        if depth > _DEEPEST:
            return None
        alike = self._alike(text, depth)
        if alike is not None and alike.is_sure:
            return alike
        return (
            self._sentences(text, depth)
            or self._in_turn(text, "; ", depth)
            or self._in_turn(text, ", ", depth)
            or alike
        )

    def _sentences(self, text: str, depth: int) -> Filled | None:
        ones = _BETWEEN.split(text)
        return _one_after_other([self._found(one, depth) for one in ones], " ") if len(ones) > 1 else None

    def _in_turn(self, text: str, between: str, depth: int) -> Filled | None:
        """Phrases one after the other, where each of them is known. A phrase may have the same mark within it."""
        ending = "," if text.endswith(",") else ""
        ones = text.removesuffix(ending).split(between)
        if not 1 < len(ones) <= _MOST_PHRASES:
            return None
        found: list[Filled | None] = []
        at = 0
        while at < len(ones):
            for until in range(at + 1, len(ones) + 1):
                one = between.join(ones[at:until])
                is_part = " " in one and until - at < len(ones) and not (at and _CLAUSE.match(one))
                said = self._alike(one, depth) if is_part else None
                if said is not None:
                    found.append(said)
                    at = until
                    break
            else:
                return None
        return _one_after_other(found, between, ending)

    def _alike(self, text: str, depth: int) -> Filled | None:
        """A text by the sentence that it is likeliest to be."""
        key = (text, depth)
        if key not in self._known:
            self._known[key] = self._likest(text, depth)
        return self._known[key]

    def _likest(self, text: str, depth: int) -> Filled | None:
        """A text as it is, or with another beginning or end: a subject has no full stop where its sentence has one.

        The more of a sentence is given, the surer it is the one that is meant.
        """
        if self._tries > _MOST_TRIES:
            return None
        variants = list(_variants(text))
        whole = next((it for one, *_ in variants if (it := self._catalogue.whole.get(one)) is not None), None)
        if whole is not None:
            return Filled(True, len(text), 0, _as_written(text, whole))
        candidates = [
            (pattern, one)
            for one, is_other_start, is_other_end in variants
            for pattern in self._catalogue.candidates(one)
            if (pattern.pieces[0] or not is_other_start) and (pattern.pieces[-1] or not is_other_end)
        ]
        best: Filled | None = None
        for pattern, one in sorted(candidates, key=lambda it: (-it[0].length, it[0].pieces)):
            self._tries += 1
            if self._tries > _MOST_TRIES or (best is not None and best.is_sure and pattern.length < best.length):
                break
            # Where a piece stands twice, it may be the first or the last that counts.
            for parts in pattern.matches(one):
                filled = self._filled(pattern, parts, depth)
                best = max((it for it in (best, filled) if it is not None), default=None)
        return best and best._replace(said=_as_written(text, best.said))

    def _filled(self, pattern: Pattern, parts: list[str], depth: int) -> Filled | None:
        said: dict[str, str] = {}
        known, is_sure = 0, True
        for before, names, part in zip(pattern.pieces, pattern.names, parts, strict=False):
            is_quoted = before.endswith("“") and names[0] not in _OURS_IN_QUOTES
            if is_quoted or (before.endswith(": ") and names[0] in _THEIRS):
                said |= dict.fromkeys(names, "") | {names[0]: part}
                continue
            for name, one in zip(names, self._apart(part, len(names), depth), strict=True):
                told = self._part(
                    one, depth + 1, OF_PHRASES in pattern.flags, name.rstrip("0123456789") in _OF_ONE_WORD
                )
                said[name] = one if told is None else told.said
                known += told is not None
                is_sure = is_sure and (not _NO_NAME.search(one) if told is None else told.is_sure)
                if told is None and OF_PHRASES in pattern.flags and not _FIGURES.fullmatch(one):
                    return None
        is_clear = is_sure or pattern.is_plain
        if not is_clear or (pattern.is_weak and not (is_sure and known)):
            return None
        return Filled(is_sure, pattern.length, known, _PART.sub(lambda part: said.get(part[1], ""), pattern.meaning))

    def _apart(self, text: str, count: int, depth: int) -> list[str]:
        """Parts with nothing between them: a later one begins with a space or a mark, and is a phrase that is known."""
        if count == 1:
            return [text]
        for at in (found.start() for found in re.finditer(r"[ ,;:(]", text)):
            for later in (text[at:], text[at:].removeprefix(" ")):
                if self._alike(later, depth + 1) is not None:
                    return [text[:at], later, *[""] * (count - 2)]
        return [text, *[""] * (count - 1)]

    def _part(self, text: str, depth: int, is_phrase: bool, is_word: bool) -> Filled | None:
        """What a sentence names: a day, a count or a phrase of ours in this language; None for all else.

        What begins with a capital and has no end is taken for a name, unless only a phrase can be there. So is a
        single word, unless only a state, a role or the like can be there: a login can be called "reviewer".
        """
        told = _day(text, self._catalogue.locale) or _count(text, self._catalogue.locale)
        if told:
            return Filled(True, len(text), 0, told)
        is_ours = text in self._catalogue.whole or f"{text}." in self._catalogue.whole
        is_name = is_ours and ((text[:1].isupper() and not text.endswith(".")) or (" " not in text and not is_word))
        return self._found(text, depth) if text and (is_phrase or not is_name) else None


def _one_after_other(found: Sequence[Filled | None], between: str, ending: str = "") -> Filled | None:
    """Texts in turn; None where one is not known."""
    known = [one for one in found if one is not None]
    if len(known) < len(found):
        return None
    said = between.join(one.said for one in known) + ending
    return Filled(all(one.is_sure for one in known), sum(one.length for one in known), len(known), said)


def _day(text: str, locale: Locale) -> str | None:
    """A day, perhaps with a time of day, as people write it; None for what is none."""
    day = _DAY.fullmatch(text)
    if day is None:
        return None
    for form in ("%d %B %Y", "%d %b %Y"):
        try:
            at = datetime.strptime(day[1], form)
        except ValueError:
            continue
        if day[2]:
            hour, minute = map(int, day[2].split(":"))
            told = format_datetime(at.replace(hour=hour, minute=minute), "d. MMMM y, HH:mm", locale=locale)
            return f"{told}{day[3] or ''}"
        return format_date(at, "long", locale=locale)
    return None


def _count(text: str, locale: Locale) -> str | None:
    """A number of a thousand or more; None for what is none."""
    return format_decimal(int(text.replace(",", "")), locale=locale) if _COUNT.fullmatch(text) else None


def _variants(text: str) -> Iterator[tuple[str, bool, bool]]:
    """How the catalogue may have a text: as it is, with the other kind of first letter, and with or without a full
    stop; with whether its start and its end are others.
    """
    other = text[:1].swapcase() + text[1:]
    for start in {text: False, other: True} if " " in text else {text: False}:
        yield start, start != text, False
        yield start[:-1] if start.endswith(".") else f"{start}.", start != text, True


def _as_written(text: str, said: str) -> str:
    """What is said with the beginning and end of the text."""
    said = said[:1].upper() + said[1:] if text[:1].isupper() and " " in text else said
    return said.removesuffix(".") + "." if text.endswith(".") else said.removesuffix(".")


@lru_cache
def known() -> tuple[str, ...]:
    """The languages that the service speaks, by their codes; English first."""
    return (ENGLISH, *sorted(file.stem for file in _FOLDER.glob("*.po")))


@lru_cache
def catalogue_of(language: str) -> Catalogue | None:
    """The catalogue of a language, read from its file once; None for English, and for a language that is not known."""
    if language == ENGLISH or language not in known():
        return None
    with (_FOLDER / f"{language}.po").open("rb") as file:
        read = read_po(file, locale=language)
    return Catalogue(
        language, [Sentence(str(one.id), str(one.string), one.flags) for one in read if one.id and one.string]
    )
