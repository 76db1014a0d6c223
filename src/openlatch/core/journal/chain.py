"""The journal as a hash chain: each entry contains the SHA-256 of the one before.

An entry's hash is taken over its canonical JSON (RFC 8785) without the hash itself. Whoever has an export and an
earlier position with its hash can prove that nothing up to there was altered, removed or reordered.

What an entry says about people (names and facts) goes into its hash by a keyed digest (BLAKE2b, RFC 7693), whose key is
stored with it. When somebody's data are erased, a pseudonym replaces the content, the digest stays and the key is
destroyed: the chain still verifies, and nobody can find the content by guessing. A later entry names each erased one;
without it, erased content counts as altered.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Protocol

import orjson
import rfc8785

from openlatch.json_values import JsonObject, JsonValue, JsonView

START = "0" * 64
_HASH = re.compile("[0-9a-f]{64}")
# The largest whole number that RFC 8785 allows (ECMAScript's largest safe one).
_LARGEST = 2**53 - 1
# The action of entries that name those whose content was erased, each with its position and hash.
ERASED = "person.erased"
FIELDS = ("organisation", "position", "at", "actor", "action", "subject", "facts", "previous")


@dataclass(frozen=True, slots=True)
class Fault:
    """One thing wrong with a journal: where, and what."""

    position: int
    what: str


@dataclass(frozen=True, slots=True)
class Verdict:
    """The result of a verification: how many entries, the last position and hash, and every fault.

    ``vouched`` is the position up to which something kept outside vouches for the entries: a noted hash, or a signed
    head. Entries after it are consistent, but a rewritten end would not be noticed.
    """

    entries: int
    position: int
    hash: str
    faults: tuple[Fault, ...]
    vouched: int = 0

    @property
    def sound(self) -> bool:
        """Whether nothing is wrong."""
        return not self.faults


def seal(entry: Mapping[str, object]) -> str:
    """The hash of an entry: hex SHA-256 over the canonical JSON of what is sealed of it."""
    return hashlib.sha256(canonical(_sealed_part(entry))).hexdigest()


def _sealed_part(entry: JsonView) -> JsonObject:
    """All of an entry's ``FIELDS``; for one with a key or digest, names and facts by their digest."""
    if not is_keyed(entry):
        return {name: entry[name] for name in FIELDS}
    subject = entry["subject"]
    return {
        **{name: entry[name] for name in ("organisation", "position", "at", "action", "previous")},
        "actor": {"id": entry["actor"]["id"]},
        "subject": {name: subject[name] for name in ("kind", "id", "account")},
        "told": entry["told"] if not entry.get("key") else told(entry),
    }


def is_keyed(entry: Mapping[str, object]) -> bool:
    """Whether what an entry tells is sealed by a digest: of all but those of earlier versions."""
    return bool(entry.get("key") or entry.get("told"))


def is_erased(entry: Mapping[str, object]) -> bool:
    """Whether the content of an entry was erased. Of one from an earlier version only its hash is left."""
    return entry.get("told") is not None and not entry.get("key")


def told(entry: JsonView) -> str:
    """The keyed digest of what an entry says about people: hex BLAKE2b of 32 bytes over canonical JSON."""
    content = {"actor": entry["actor"]["name"], "subject": entry["subject"]["name"], "facts": entry["facts"]}
    return hashlib.blake2b(canonical(content), key=bytes.fromhex(entry["key"]), digest_size=32).hexdigest()


def canonical(value: JsonValue) -> bytes:
    """A value as canonical JSON (RFC 8785)."""
    # Without floating numbers, and with keys that every order sorts alike, orjson writes the same, much faster.
    return orjson.dumps(value, option=orjson.OPT_SORT_KEYS) if _is_plain(value) else rfc8785.dumps(value)


def around_its_place(entry: Mapping[str, object]) -> tuple[str, str, str]:
    """The canonical JSON of an entry without its place: the text before, between and after the position and the
    previous hash.
    """
    # Canonical JSON orders keys by their letters: of ours only "subject" and "told" come after the two.
    part = _sealed_part({**entry, "position": 0, "previous": ""})
    last = {name: part.pop(name) for name in ("subject", "told") if name in part}
    del part["position"], part["previous"]
    before = canonical(part)[:-1].decode() + ',"position":'
    return before, ',"previous":"', '",' + canonical(last)[1:].decode()


def _is_plain(value: JsonValue) -> bool:
    kind = type(value)
    if kind is dict:
        return all(type(key) is str and key.isascii() and _is_plain(held) for key, held in value.items())
    if kind is list:
        return all(map(_is_plain, value))
    return kind is str or kind is bool or value is None or (kind is int and -_LARGEST <= value <= _LARGEST)


def chain(entries: Iterable[dict[str, object]], position: int, previous: str) -> Iterator[JsonObject]:
    """Number and seal entries after ``position``, whose hash is ``previous``."""
    for entry in entries:
        position += 1
        sealed = {**entry, "position": position, "previous": previous}
        previous = sealed["hash"] = seal(sealed)
        yield sealed


class Watcher(Protocol):
    """Something kept outside that the entries are held against (``tree_heads.Watch``)."""

    def faults(self, entry: Mapping[str, object]) -> Iterable[Fault]:
        """What is wrong with the next entry."""
        ...

    def at_the_end(self) -> Iterable[Fault]:
        """What is wrong once there are no more."""
        ...

    @property
    def vouched(self) -> int:
        """Up to which position it vouches for what was seen."""
        ...


def verify(
    entries: Iterable[JsonView], expected: tuple[int, str] | None = None, heads: Watcher | None = None
) -> Verdict:
    """Check a whole journal from its first entry, in the order given.

    ``expected`` is a position and hash noted earlier: the journal has to reach it, with that hash, or its end
    was cut off or rewritten. ``heads`` are signed tree heads, watched as the entries go by. Every fault is reported,
    not only the first.
    """
    faults: list[Fault] = []
    count, position, previous = 0, 0, START
    met = 0 if expected == (0, START) else None
    erased: dict[int, str] = {}
    listed: dict[int, str] = {}
    for entry in entries:
        count += 1
        if is_erased(entry):
            erased[int(entry["position"])] = str(entry["hash"])
        elif entry.get("action") == ERASED:
            listed.update({int(at): str(hashed) for at, hashed in entry["facts"].get("entries", ())})
        faults.extend(faults_of(entry, position, previous))
        if heads is not None and _HASH.fullmatch(str(entry["hash"])):
            faults.extend(heads.faults(entry))
        position, previous = int(entry["position"]), str(entry["hash"])
        if (position, previous) == expected:
            met = position
    if expected is not None and met is None:
        faults.append(Fault(expected[0], f"the journal does not hold the hash {expected[1][:12]}… at this position"))
    faults.extend(
        Fault(at, "its content was taken out, and no entry says that somebody's data were erased there")
        for at, hashed in erased.items()
        if listed.get(at) != hashed
    )
    if heads is not None:
        faults.extend(heads.at_the_end())
    return Verdict(count, position, previous, tuple(faults), max(met or 0, heads.vouched if heads is not None else 0))


def faults_of(entry: JsonView, position: int, previous: str) -> Iterator[Fault]:
    """What is wrong with an entry by itself, or as the one after a position with its hash."""
    at = int(entry["position"])
    missing = [name for name in FIELDS if name not in entry]
    if missing:
        yield Fault(at, f"the entry has no {', '.join(missing)}")
        return
    if at <= position:
        yield Fault(at, f"out of order: it comes after position {position}")
    elif at != position + 1:
        yield Fault(at, f"{at - position - 1} missing before it")
    elif entry["previous"] != previous:
        yield Fault(at, "does not follow from the entry before")
    if not _holds_only_what_is_sealed(entry):
        yield Fault(at, "altered: it holds what was never sealed")
    # Of an erased entry of an earlier version nothing is left to hold its hash against, but the entry that names it.
    if not (is_erased(entry) and not entry["told"]) and _sealed(entry) != entry["hash"]:
        yield Fault(at, "altered: the hash does not match what it says")


_OUTSIDE = {"hash", "key", "told"}
_ACTOR, _SUBJECT = {"id", "name"}, {"kind", "id", "name", "account"}


def _holds_only_what_is_sealed(entry: Mapping[str, object]) -> bool:
    """Whether an entry has no member that its hash says nothing of."""
    actor, subject = entry["actor"], entry["subject"]
    return (
        set(entry) <= {*FIELDS, *_OUTSIDE}
        and isinstance(actor, dict)
        and set(actor) <= _ACTOR
        and isinstance(subject, dict)
        and set(subject) <= _SUBJECT
    )


def is_as_sealed(entry: Mapping[str, object]) -> bool:
    """Whether an entry by itself is as it was sealed, and holds nothing besides."""
    return _holds_only_what_is_sealed(entry) and _sealed(entry) == entry["hash"]


def _sealed(entry: Mapping[str, object]) -> str | None:
    """The hash of an entry; None when it holds what canonical JSON has no form for, and so was never sealed."""
    try:
        return seal(entry)
    except (rfc8785.CanonicalizationError, TypeError, ValueError):
        return None
