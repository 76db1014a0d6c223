"""Patterns over the paths of resources, and finding the rules whose patterns cover a path.

A path consists of segments after slashes. In a pattern ``*`` matches any characters within one segment, and ``**`` as a
segment of its own any number of segments, also none.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from hashlib import blake2b

ANY_DEPTH = "**"


def segments(path: str) -> tuple[str, ...]:
    """The segments of a path or pattern. ValueError unless it begins with a slash and none of them is empty."""
    if path == "/":
        return ()
    parts = tuple(path.split("/"))
    if parts[0] or "" in parts[1:]:
        raise ValueError(f"{path!r} is not a path: begin it with a slash, and put just one between two names")
    return parts[1:]


def path_of(name: str) -> str:
    """The path of something that its system names otherwise: segments after slashes, and no star in any."""
    parts = [part for part in name.split("/") if part]
    return "/" + "/".join(part.replace("%", "%25").replace("*", "%2A") for part in parts)


def key_of(name: str, most: int = 150) -> str:
    """A key for a rule about something that its system names. Characters that keys don't allow are escaped.

    A key that would be too long ends with a digest, so different names keep different keys.
    """
    kept = "".join(c if c.isascii() and (c.isalnum() or c in "._:@/-") else f"+{ord(c):x}" for c in name)
    return kept if len(kept) <= most else f"{kept[: most - 33]}-{blake2b(name.encode(), digest_size=16).hexdigest()}"


def place_of(pattern: str) -> str:
    """The path before the first wildcard of a pattern: whatever the pattern covers is there or below."""
    parts = segments(pattern)
    named = next((n for n, part in enumerate(parts) if "*" in part), len(parts))
    return "/" + "/".join(parts[:named])


def around(path: str) -> Iterator[str]:
    """A path, and all paths above it up to the slash."""
    parts = segments(path)
    yield from ("/" + "/".join(parts[:n]) for n in range(len(parts), -1, -1))


def covers(pattern: str, path: str) -> bool:
    """Whether a pattern covers a path."""
    return _compiled(pattern).fullmatch("" if path == "/" else path) is not None


def fixed_segments(pattern: str, path: str) -> int:
    """How many segments of a pattern that covers the path are without a wildcard; -1 when it doesn't cover it."""
    return sum("*" not in segment for segment in segments(pattern)) if covers(pattern, path) else -1


@lru_cache(maxsize=65_536)
def _compiled(pattern: str) -> re.Pattern[str]:
    parts = ("(/[^/]+)*" if part == ANY_DEPTH else "/" + _segment(part) for part in segments(pattern))
    return re.compile("".join(parts), re.DOTALL)


def _segment(part: str) -> str:
    """One segment; a lone star matches at least one character."""
    return "[^/]+" if part == "*" else "[^/]*".join(re.escape(piece) for piece in part.split("*"))


@dataclass(slots=True)
class _Node:
    here: list[int] = field(default_factory=list)
    named: dict[str, _Node] = field(default_factory=dict)
    open: list[tuple[int, str]] = field(default_factory=list)


class Index:
    """Patterns by number, so that those that cover a path are found without trying all of them."""

    def __init__(self, patterns: Iterable[Sequence[str]]) -> None:
        """``patterns`` are, for each number from 0, the patterns that belong to it."""
        self._root = _Node()
        for number, several in enumerate(patterns):
            for pattern in several:
                self._add(number, pattern)

    def _add(self, number: int, pattern: str) -> None:
        node = self._root
        for part in segments(pattern):
            if "*" in part:
                node.open.append((number, pattern))
                return
            node = node.named.setdefault(part, _Node())
        node.here.append(number)

    def find(self, path: str) -> list[int]:
        """The numbers whose patterns cover a path, in order."""
        return sorted(set(self._met(path)))

    def _met(self, path: str) -> Iterator[int]:
        node: _Node | None = self._root
        for part in segments(path):
            if node is None:
                return
            yield from (number for number, pattern in node.open if covers(pattern, path))
            node = node.named.get(part)
        if node is not None:
            yield from node.here
            yield from (number for number, pattern in node.open if covers(pattern, path))
