"""Passwords by NIST SP 800-63B section 3.1.1: length, and not one that many use. No rules of composition."""

from __future__ import annotations

from zxcvbn.frequency_lists import FREQUENCY_LISTS

from openlatch.errors import BadInput

SHORTEST = 12
LONGEST = 128
_COMMON = frozenset(FREQUENCY_LISTS["passwords"])


def refuse_weak(password: str, about: tuple[str, ...] = ()) -> None:
    """BadInput for a password that is too short or long, that many use, or that is made of ``about`` its owner."""
    if len(password) < SHORTEST:
        raise _bad(f"The password has {len(password)} characters.", f"Use at least {SHORTEST}; a few words do well.")
    if len(password) > LONGEST:
        raise _bad(f"The password has {len(password)} characters.", f"Use at most {LONGEST}.")
    plain = password.casefold()
    if plain in _COMMON or _is_repeated(plain):
        raise _bad("The password is one of those that many people use.", "Use a few words that nobody would guess.")
    for word in about:
        bare = plain.replace(word.casefold(), "") if len(word) > 3 else plain
        if len(bare) < SHORTEST // 2:
            raise _bad("The password is little more than your name or address.", "Use a few other words.")


def _is_repeated(plain: str) -> bool:
    """Whether it is something short or common, over and over."""
    for length in range(1, len(plain) // 2 + 1):
        piece = plain[:length]
        if piece * (len(plain) // length) == plain and (length <= 3 or piece in _COMMON):
            return True
    return False


def _bad(detail: str, remedy: str) -> BadInput:
    return BadInput(detail, remedy, {"password": remedy})
