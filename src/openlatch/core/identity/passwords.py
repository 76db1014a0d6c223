"""Passwords by NIST SP 800-63B section 3.1.1: long, not one that many use, hard to guess; no rules of composition."""

from __future__ import annotations

import re
from collections.abc import Iterable

from zxcvbn import zxcvbn
from zxcvbn.frequency_lists import FREQUENCY_LISTS

from openlatch.errors import BadInput

SHORTEST = 12
LONGEST = 128
# On the scale of zxcvbn, 0 to 4: from here on it takes more than ten million guesses.
WEAKEST = 3
# It judges no more than so many characters; what is that long is not weak for being short.
_JUDGED = 72
_OTHER_WORDS = "Use a few words that have nothing to do with you or each other."
_COMMON = frozenset(FREQUENCY_LISTS["passwords"])


def refuse_weak(password: str, about: tuple[str, ...] = ()) -> None:
    """BadInput, with the reason, for a password that is too short or long, that many use, or that is easy to guess.

    ``about`` are names and addresses of its owner and their organisation.
    """
    if len(password) < SHORTEST:
        raise _bad(f"The password has {len(password)} characters.", f"Use at least {SHORTEST}; a few words do well.")
    if len(password) > LONGEST:
        raise _bad(f"The password has {len(password)} characters.", f"Use at most {LONGEST}.")
    plain = password.casefold()
    if plain in _COMMON or _is_repeated(plain):
        raise _bad("The password is one of those that many people use.", _OTHER_WORDS)
    words = own_words(about)
    if len(_without(plain, words)) < SHORTEST // 2:
        raise _bad("The password is little more than names and addresses that belong to you.", _OTHER_WORDS)
    judged = zxcvbn(password[:_JUDGED], words)
    if judged["score"] < WEAKEST:
        said = judged["feedback"]["warning"] or "It would be guessed soon"
        raise _bad(f"The password is too easy to guess: {said[0].lower()}{said[1:].rstrip('.')}.", _OTHER_WORDS)


def own_words(about: Iterable[str]) -> list[str]:
    """The words in names and addresses of somebody and their organisation, the longest first."""
    found = {word for text in about for word in re.split(r"\W+|_", text.casefold()) if len(word) > 2}
    return sorted(found, key=lambda word: (-len(word), word))


def _without(plain: str, words: Iterable[str]) -> str:
    for word in words:
        plain = plain.replace(word, "")
    return plain


def _is_repeated(plain: str) -> bool:
    """Whether it is something short or common, over and over."""
    for length in range(1, len(plain) // 2 + 1):
        piece = plain[:length]
        if piece * (len(plain) // length) == plain and (length <= 3 or piece in _COMMON):
            return True
    return False


def _bad(detail: str, remedy: str) -> BadInput:
    return BadInput(detail, remedy, {"password": remedy})
