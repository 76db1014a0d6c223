"""Line and column of every value in a JSON text, so that errors can point at them."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping

_LEXEME = re.compile(r'"(?:[^"\\]|\\.)*"|[{}\[\],:]|[^\s{}\[\],:"]+|\n', re.DOTALL)


def lines(text: str) -> dict[str, int]:
    """The line, from 1, on which each value of a JSON text begins, by its pointer (RFC 6901).

    The text has to be JSON.
    """
    found: dict[str, int] = {}
    stack: list[str | int] = []
    lexemes = list(_lexemes(text))
    for (lexeme, line), (after, _) in zip(lexemes, [*lexemes[1:], ("", 0)], strict=True):
        if lexeme in "}]":
            stack.pop()
        elif lexeme == "," and isinstance(stack[-1], int):
            stack[-1] += 1
        elif after == ":":
            stack[-1] = json.loads(lexeme, strict=False).replace("~", "~0").replace("/", "~1")
            found["".join(f"/{step}" for step in stack)] = line
        elif lexeme not in ",:":
            found.setdefault("".join(f"/{step}" for step in stack), line)
            if lexeme in "{[":
                stack.append(0 if lexeme == "[" else "")
    return found


def _lexemes(text: str) -> Iterator[tuple[str, int]]:
    line = 1
    for lexeme in _LEXEME.findall(text):
        if lexeme == "\n":
            line += 1
        else:
            yield lexeme, line


def nearest(where: Mapping[str, int], pointer: str) -> int:
    """The line of a place, or of the nearest place around it that the text has."""
    while pointer and pointer not in where:
        pointer = pointer.rpartition("/")[0]
    return where.get(pointer, 1)
