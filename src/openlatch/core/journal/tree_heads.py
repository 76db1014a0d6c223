"""Signed tree heads: one line that vouches for the whole journal up to an entry, kept outside its database.

A head has the organisation, the number of entries, the root over them (``merkle_tree``), the hash of the last one, and
the time; it is signed with Ed25519 over its canonical JSON (RFC 8785) without the signature. A head in a file may also
contain the hashes of the entries since the head before, which identify the first entry that differs.
"""

from __future__ import annotations

import base64
import binascii
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

import orjson
from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey

from openlatch.core.journal.chain import Fault, canonical
from openlatch.core.journal.merkle_tree import Tree
from openlatch.errors import BadInput
from openlatch.json_values import JsonObject, JsonValue

FORMAT = "openlatch-tree-head"
VERSION = 1
_SIGNED = ("format", "version", "organisation", "size", "root", "last", "at", "key")


@dataclass(frozen=True, slots=True)
class Head:
    """A signed head as it was read; ``hashes`` are those of the entries up to it, where it carries them."""

    organisation: str
    size: int
    root: bytes
    at: str
    key: str
    written: bytes
    signature: bytes
    hashes: tuple[bytes, ...] = ()

    @property
    def is_signed(self) -> bool:
        """Whether the signature is that of the key which it names."""
        return is_signed(self.key, self.signature, self.written)


def is_signed(key: str, signature: bytes, message: bytes) -> bool:
    """Whether a message is signed with the key whose JWK has this ``x``."""
    try:
        raw = base64.urlsafe_b64decode(key + "=" * (-len(key) % 4))
        Ed25519PublicKey.from_public_bytes(raw).verify(signature, message)
    except (InvalidSignature, ValueError, binascii.Error):
        return False
    return True


def sign(key: Ed25519PrivateKey, public: str, organisation: str, tree: Tree, last: str, at: str) -> JsonObject:
    """A head over a tree, signed. ``public`` is the ``x`` of the key's JWK, ``last`` the hash of the last entry."""
    head = {
        "format": FORMAT,
        "version": VERSION,
        "organisation": organisation,
        "size": tree.size,
        "root": tree.root.hex(),
        "last": last,
        "at": at,
        "key": public,
    }
    return {**head, "signature": base64.urlsafe_b64encode(key.sign(canonical(head))).decode()}


def parse(value: JsonValue) -> Head:
    """A head from JSON. BadInput for anything else."""
    try:
        if value["format"] != FORMAT or value["version"] != VERSION:
            raise BadInput("It is not a tree head in a version known here.", "Give one as Open Latch wrote it.")
        return Head(
            str(value["organisation"]),
            int(value["size"]),
            bytes.fromhex(value["root"]),
            str(value["at"]),
            str(value["key"]),
            canonical({name: value[name] for name in _SIGNED}),
            base64.urlsafe_b64decode(value["signature"]),
            tuple(map(bytes.fromhex, value.get("hashes", ()))),
        )
    except (KeyError, TypeError, ValueError, AttributeError, binascii.Error) as error:
        raise BadInput(f"It is not a tree head: {error!r}.", "Give one as Open Latch wrote it.") from None


def read(content: bytes) -> list[Head]:
    """The heads of a file: one JSON object, or one on each line. BadInput names the line that is none."""
    lines = [(number, line) for number, line in enumerate(content.splitlines(), 1) if line.strip()]
    if not lines:
        raise BadInput("The file of tree heads is empty.", "Give one as Open Latch wrote it.")
    try:
        return [parse(orjson.loads(content))]
    except orjson.JSONDecodeError:
        pass
    heads = []
    for number, line in lines:
        try:
            heads.append(parse(orjson.loads(line)))
        except orjson.JSONDecodeError as error:
            raise BadInput(f"Line {number} is not JSON: {error}.", "Use the file as it was written.") from None
        except BadInput as error:
            raise BadInput(f"Line {number}: {error.detail}", error.remedy) from None
    return heads


class Watch:
    """Checks a journal against heads while its entries are read in order.

    A file may contain heads of other organisations; they are ignored.
    """

    def __init__(self, heads: Sequence[Head]) -> None:
        self._tree = Tree()
        self._heads = heads
        self._waiting = sorted(heads, key=lambda head: head.size)
        self._known: dict[int, bytes] = {}
        self._agreed = 0
        self._named = False

    def _keep_those_of(self, organisation: str) -> None:
        self._waiting = sorted(
            (head for head in self._heads if head.organisation == organisation), key=lambda head: head.size
        )
        for head in self._waiting:
            first = head.size - len(head.hashes) + 1
            for position, known in enumerate(head.hashes, first):
                self._known.setdefault(position, known)

    def faults(self, entry: Mapping[str, object]) -> Iterator[Fault]:
        """What is wrong with the next entry, by the heads."""
        if not self._tree.size:
            self._keep_those_of(str(entry["organisation"]))
        entry_hash = bytes.fromhex(str(entry["hash"]))
        self._tree.append(entry_hash)
        position = self._tree.size
        known = self._known.get(position)
        if known is not None and known != entry_hash and not self._named:
            self._named = True
            yield Fault(position, "differs from the entry that a signed head vouches for; it is the first that does")
        while self._waiting and self._waiting[0].size == position:
            head = self._waiting.pop(0)
            yield from self._compared(head)

    def _compared(self, head: Head) -> Iterator[Fault]:
        if head.root == self._tree.root:
            self._agreed = max(self._agreed, head.size)
        elif not self._named:
            self._named = True
            among = f"between positions {self._agreed + 1} and {head.size}"
            if self._agreed + 1 == head.size:
                among = f"at position {head.size}"
            yield Fault(
                head.size, f"the signed head of {head.at} vouches for other entries: the first that differs is {among}"
            )

    def at_the_end(self) -> Iterator[Fault]:
        """Heads beyond the journal's end: its end was cut off."""
        for head in self._waiting:
            yield Fault(
                self._tree.size + 1,
                f"cut off: the signed head of {head.at} vouches for {head.size} entries, and there are "
                f"{self._tree.size}",
            )

    @property
    def vouched(self) -> int:
        """Up to which position a head vouches for what was seen."""
        return self._agreed


def unsigned(heads: Iterable[Head]) -> list[Fault]:
    """A fault for each head whose signature is wrong."""
    return [
        Fault(head.size, f"the head of {head.at} is not signed by the key that it names")
        for head in heads
        if not head.is_signed
    ]
