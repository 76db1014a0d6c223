"""The evidence of a review as one file, and verifying it with nothing else at hand.

The file is a ZIP archive whose members are stored in one order, that of the manifest, so that from its members it can
be made again byte for byte. ``manifest.json`` names every other member with its SHA-256, the journal position at which
the review ended with that entry's hash, and the hash over the items as they were frozen; ``manifest.sig`` is an Ed25519
signature over the manifest. So a single changed byte is found, wherever it is. By whom a bundle was made only a key
tells that the reader trusts: a bundle that somebody made and signed anew agrees with itself.
"""

from __future__ import annotations

import hashlib
import io
import lzma
import struct
import zipfile
import zlib
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import orjson

from openlatch.core.journal import chain
from openlatch.core.journal.merkle_tree import is_included
from openlatch.core.journal.tree_heads import is_signed, parse
from openlatch.core.vocabulary import Proof
from openlatch.errors import BadInput
from openlatch.json_values import JsonObject, JsonView

FORMAT = "openlatch-review-evidence"
VERSION = 2
MANIFEST, SIGNATURE, EVIDENCE, JOURNAL = "manifest.json", "manifest.sig", "evidence.json", "journal.jsonl"
HEAD, ADDENDA = "tree_head.json", "addenda.json"
_LONG_AGO = (1980, 1, 1, 0, 0, 0)
# Whatever a reader of archives and JSON can come upon in bytes that are not what they should be.
_UNREADABLE = (
    zipfile.BadZipFile,
    zlib.error,
    lzma.LZMAError,
    struct.error,
    RuntimeError,
    OSError,
    EOFError,
    LookupError,
    ValueError,
    TypeError,
    AttributeError,
)


@dataclass(frozen=True, slots=True)
class Finding:
    """What verifying a bundle came to: what it is about, every fault, and whether its signer is known.

    ``addenda`` is how many things came to light after the review had ended.
    """

    round: str
    items: int
    position: int
    hash: str
    key: str
    faults: tuple[str, ...]
    is_trusted: bool = False
    addenda: int = 0

    @property
    def unaltered(self) -> bool:
        """Whether it is as it was when somebody signed it, whoever that was."""
        return not self.faults

    @property
    def sound(self) -> bool:
        """Whether it is unaltered, and signed by a key that the reader trusts."""
        return self.unaltered and self.is_trusted


def pack(members: Mapping[str, bytes]) -> bytes:
    """The members as an archive that is the same whenever it is made."""
    target = io.BytesIO()
    with zipfile.ZipFile(target, "w", zipfile.ZIP_STORED) as archive:
        for name, content in members.items():
            archive.writestr(zipfile.ZipInfo(name, _LONG_AGO), content)
    return target.getvalue()


def item_line(position: int, kind: str, subject: object, facts: object) -> bytes:
    """An item as it goes into the hash over a round's items: JSON by RFC 8785, and a line feed.

    Keys are ASCII and numbers are whole, for which orjson's sorted form is the canonical one.
    """
    line = {"position": position, "kind": kind, "subject_id": subject, "facts": facts}
    return orjson.dumps(line, option=orjson.OPT_SORT_KEYS) + b"\n"


def describe(members: Mapping[str, bytes]) -> dict[str, JsonObject]:
    """The size and the hash of each member, as the manifest names them."""
    return {name: {"bytes": len(c), "sha256": hashlib.sha256(c).hexdigest()} for name, c in members.items()}


def verify(data: bytes, keys: Sequence[str] = ()) -> Finding:
    """Look whether a bundle is as it was made: whole, signed, and in agreement with itself and its journal entries.

    ``keys`` are the public keys (the ``x`` of a JWK) that the reader trusts; one of them has to have signed it. Without
    any, the key in the bundle is used: that finds damage, and not somebody who signs anew, so it is never *sound*.
    """
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            names = [info.filename for info in archive.infolist()]
            members = {info.filename: archive.read(info) for info in archive.infolist()}
        manifest = orjson.loads(members[MANIFEST])
        signature = members[SIGNATURE]
        if not isinstance(manifest, dict) or manifest["format"] != FORMAT or manifest["version"] != VERSION:
            return _unreadable("it is not evidence of a review in a version known here")
        return _verified(data, names, members, manifest, signature, keys)
    except _UNREADABLE as error:
        return _unreadable(f"it can't be read as evidence: {error}")
    except BadInput as error:
        return _unreadable(error.detail)


def _unreadable(why: str) -> Finding:
    return Finding("", 0, 0, "", "", (why,))


def _verified(
    data: bytes,
    names: Sequence[str],
    members: dict[str, bytes],
    manifest: JsonObject,
    signature: bytes,
    keys: Sequence[str],
) -> Finding:
    faults: list[str] = []
    own = str(manifest["key"]["x"])
    if list(names) != [MANIFEST, SIGNATURE, *manifest["files"]]:
        faults.append("its members are not those of the manifest, in its order")
    if pack({name: members[name] for name in dict.fromkeys(names)}) != data:
        faults.append("the archive holds something besides its members, or one of them twice")
    if keys and own not in keys:
        faults.append("it is signed with a key that is not trusted")
    if not is_signed(own, signature, members[MANIFEST]):
        faults.append("the manifest's signature is not right")
    faults += _members(members, manifest["files"])
    evidence = orjson.loads(members[EVIDENCE])
    entries = [orjson.loads(line) for line in members[JOURNAL].splitlines()]
    faults += _items(evidence, str(manifest["items_hash"]), int(manifest["items"]))
    faults += _entries(entries, manifest)
    faults += _agreeing(evidence, entries)
    faults += _under_its_head(orjson.loads(members[HEAD]), manifest, own)
    addenda = orjson.loads(members[ADDENDA])["addenda"] if ADDENDA in members else []
    faults += _addenda(addenda, int(manifest["addenda"]), int(manifest["items"]))
    place = manifest["journal"]
    return Finding(
        str(manifest["round"]["name"]),
        int(manifest["items"]),
        int(place["position"]),
        str(place["hash"]),
        own,
        tuple(faults),
        own in keys,
        len(addenda),
    )


def _under_its_head(proof: JsonView, manifest: JsonView, key: str) -> Iterator[str]:
    """The entry with which the review ended is under a head of the whole journal, signed with the same key."""
    head, place = parse(proof["head"]), manifest["journal"]
    if head.key != key or not head.is_signed or head.organisation != manifest["organisation"]["id"]:
        yield "the tree head is not signed with the key of the bundle"
    path = [bytes.fromhex(one) for one in proof["inclusion"]]
    index = int(place["position"]) - 1
    if not is_included(bytes.fromhex(place["hash"]), index, head.size, path, head.root):
        yield "the end of the review is not under the tree head"


def _addenda(addenda: Sequence[JsonView], named: int, items: int) -> Iterator[str]:
    if len(addenda) != named or any(not 1 <= int(one["item"]) <= items for one in addenda):
        yield "the addenda are not those that the manifest names"


def _members(members: Mapping[str, bytes], named: Mapping[str, JsonView]) -> Iterator[str]:
    for name in sorted(set(named) - set(members)):
        yield f"{name} is missing"
    for name in sorted(set(members) - set(named) - {MANIFEST, SIGNATURE}):
        yield f"{name} is not in the manifest"
    for name in sorted(set(named) & set(members)):
        if hashlib.sha256(members[name]).hexdigest() != named[name]["sha256"]:
            yield f"{name} was altered"


def _items(evidence: JsonView, wanted: str, count: int) -> Iterator[str]:
    items = evidence["items"]
    digest = hashlib.sha256()
    for item in items:
        digest.update(item_line(item["position"], item["kind"], item["subject_id"], item["facts"]))
    if digest.hexdigest() != wanted:
        yield "the frozen items are not those with which the review opened"
    taken = sum(kind["items"] for kind in evidence["completeness"]["population"])
    totals = evidence["totals"]
    decided = totals["kept"] + totals["trimmed"] + totals["revoked"] + totals["nothing_done"]
    known = Counter(item["carried_out"]["proof"] for item in items)
    if totals["ended"] != {proof.value: known[proof.value] for proof in Proof}:
        yield "the counts of how ends are known are not those of the items"
    if not len(items) == count == taken == decided:
        yield f"the counts do not add up: {len(items)} items, {taken} in the population, {count} in the manifest"


def _entries(entries: Sequence[JsonView], manifest: JsonView) -> Iterator[str]:
    position = 0
    for entry in entries:
        if int(entry["position"]) <= position:
            yield f"journal entry {entry['position']} is out of order"
        position = int(entry["position"])
        if not chain.is_as_sealed(entry):
            yield f"journal entry {position} was altered"
    last = entries[-1] if entries else {"position": 0, "hash": "", "action": "", "facts": {}}
    place = manifest["journal"]
    if (last["action"], last["position"], last["hash"]) != ("round.ended", place["position"], place["hash"]):
        yield "the last journal entry is not the one that the manifest names"
    if {str(manifest["items_hash"])} != {e["facts"].get("items_hash") for e in entries if e["action"] in _ENDS}:
        yield "the journal names another hash over the items"


_ENDS = ("round.opened", "round.ended")
_DECIDING = {"item.decided": "verdict", "item.settled": "fate"}


def _agreeing(evidence: JsonView, entries: Sequence[JsonView]) -> Iterator[str]:
    """Every decision is the one that the journal last recorded for it."""
    last: dict[int, JsonView] = {}
    for entry in entries:
        if entry["action"] in _DECIDING:
            last[int(entry["facts"]["position"])] = entry
    for item in evidence["items"]:
        decision = item["decision"]
        if int(item["position"]) not in last:
            yield f"item {item['position']}: the journal holds no decision"
            continue
        entry = last[int(item["position"])]
        settled = entry["action"] == "item.settled"
        said = (entry["facts"]["fate"] if settled else entry["facts"]["verdict"], entry["facts"]["reason"])
        shown = (decision["fate"] if settled else decision["verdict"], decision["reason"])
        if said != shown or (not settled and entry["actor"]["name"] != decision["by"]):
            yield f"item {item['position']}: the decision is not the one in the journal"
