"""What file modes allow every login: in a folder, in its content, and in what is created there later."""

from __future__ import annotations

from collections.abc import Iterator

from openlatch.adapters.contract import Found, FoundPart, FoundRule
from openlatch.core.exposure.paths import key_of, path_of
from openlatch.json_values import JsonObject

# Items inside a folder that are reported one by one.
MOST = 200
_WORDS = {"r": "read", "w": "write"}


def of_folder(account: str, folder: str, rights: str) -> Iterator[FoundRule]:
    """The rule of a folder whose mode lets every login in."""
    if set(rights) & set(_WORDS):
        yield _rule(account, "mode", rights, "/", {"kind": "mode", "folder": folder})


def find(path: str) -> list[str]:
    """The command that lists what every login may read or write inside a folder, as far as it can be reached."""
    closed = ["-type", "d", "!", "-perm", "-o=x", "-prune"]
    is_open = ["(", "-type", "f", "-o", "-type", "d", ")", "(", "-perm", "-o=r", "-o", "-perm", "-o=w", ")"]
    return ["find", path, "-ignore_readdir_race", "-mindepth", "1", *closed, "-o", *is_open, "-printf", r"%m %y %P\0"]


def inside(told: str, above: str) -> Iterator[tuple[str, str, str]]:
    """The output of ``find``, where it allows more than its surroundings: path inside, kind (d or f), and rights of r
    and w.

    ``above`` are the rights that the folder itself gives.
    """
    found = []
    for line in filter(None, told.split("\0")):
        mode, kind, path = line.split(" ", 2)
        found.append((path, kind, "".join(r for r, bit in (("r", 4), ("w", 2)) if int(mode, 8) & bit)))
    given = {"": above}
    for path, kind, rights in sorted(found):
        around = next(given[place] for place in _above(path) if place in given)
        given[path] = "".join(sorted({*around, *rights}))
        if set(rights) - set(around):
            yield path, kind, rights


def of_inside(account: str, folder: str, path: str, kind: str, rights: str) -> Iterator[Found]:
    """One item inside a folder that is more open than the folder, with its rule."""
    whole = f"{folder}/{path}"
    yield FoundPart(account, whole, path, "folder" if kind == "d" else "file")
    handle = {"kind": "mode", "folder": whole}
    yield _rule(account, f"mode:{key_of(path)}", rights, path_of(whole), handle)


def of_new(account: str, folder: str, path: str, rights: str) -> Iterator[Found]:
    """What will be created in a folder whose default entry lets every login in."""
    whole = f"{folder}/{path}".rstrip("/")
    part = FoundPart(account, f"{whole}/*", f"What is made new in {path or folder}", "new things")
    yield part
    handle = {"kind": "default", "folder": whole}
    yield _rule(account, f"new:{key_of(path or '.')}", rights, path_of(part.handle), handle)


def _above(path: str) -> Iterator[str]:
    while path:
        path = path.rpartition("/")[0]
        yield path


def _rule(account: str, key: str, rights: str, place: str, handle: JsonObject) -> FoundRule:
    to = [word for letter, word in _WORDS.items() if letter in rights]
    return FoundRule(account, {"rule": key, "admit": ["signed in"], "to": to, "on": [place]}, handle)
