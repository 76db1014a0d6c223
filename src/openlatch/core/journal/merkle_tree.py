"""A Merkle tree over the journal's entries, by RFC 9162 section 2.1.

A leaf is the hash of an entry, so the tree commits to every entry by its chain hash. The root over the first ``n``
entries is one line that proves all of them; whoever keeps it outside the database finds any change to them, even if the
whole chain was rewritten. Hashes are raw bytes here.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

EMPTY = hashlib.sha256(b"").digest()


def leaf_of(entry_hash: bytes) -> bytes:
    """The leaf hash of an entry's hash: prefixed with a zero byte."""
    return hashlib.sha256(b"\x00" + entry_hash).digest()


def _node(left: bytes, right: bytes) -> bytes:
    return hashlib.sha256(b"\x01" + left + right).digest()


@dataclass(slots=True)
class Tree:
    """A tree that only grows: its size and its peaks, the roots of its full subtrees with the largest first."""

    size: int = 0
    peaks: tuple[bytes, ...] = ()

    def append(self, entry_hash: bytes) -> None:
        """One more entry."""
        peaks, node, size = list(self.peaks), leaf_of(entry_hash), self.size
        while size % 2:
            node = _node(peaks.pop(), node)
            size //= 2
        self.peaks, self.size = (*peaks, node), self.size + 1

    @property
    def root(self) -> bytes:
        """The root over all entries."""
        if not self.peaks:
            return EMPTY
        *rest, root = self.peaks
        for peak in reversed(rest):
            root = _node(peak, root)
        return root


def root_of(entry_hashes: Iterable[bytes]) -> bytes:
    """The root over these entries."""
    tree = Tree()
    for one in entry_hashes:
        tree.append(one)
    return tree.root


def _split(size: int) -> int:
    """The largest power of two that is smaller than a size of at least two."""
    return 1 << ((size - 1).bit_length() - 1)


def inclusion_proof(index: int, entry_hashes: Sequence[bytes]) -> list[bytes]:
    """What proves that the entry at ``index``, counted from 0, is under the root over all of them (2.1.3.1)."""
    if len(entry_hashes) <= 1:
        return []
    half = _split(len(entry_hashes))
    left, right = entry_hashes[:half], entry_hashes[half:]
    if index < half:
        return [*inclusion_proof(index, left), root_of(right)]
    return [*inclusion_proof(index - half, right), root_of(left)]


def is_included(entry_hash: bytes, index: int, size: int, proof: Sequence[bytes], root: bytes) -> bool:
    """Whether a proof shows that an entry is at ``index`` under the root over ``size`` entries (2.1.3.2)."""
    if not 0 <= index < size:
        return False
    at, last, found = index, size - 1, leaf_of(entry_hash)
    for other in proof:
        if last == 0:
            return False
        if at % 2 or at == last:
            found = _node(other, found)
            while at and not at % 2:
                at, last = at // 2, last // 2
        else:
            found = _node(found, other)
        at, last = at // 2, last // 2
    return last == 0 and found == root


def consistency_proof(before: int, entry_hashes: Sequence[bytes]) -> list[bytes]:
    """What proves that the first ``before`` entries are under the root over all of them, too (2.1.4.1)."""
    return _subproof(before, entry_hashes, True) if 0 < before < len(entry_hashes) else []


def _subproof(before: int, entry_hashes: Sequence[bytes], whole: bool) -> list[bytes]:
    if before == len(entry_hashes):
        return [] if whole else [root_of(entry_hashes)]
    half = _split(len(entry_hashes))
    left, right = entry_hashes[:half], entry_hashes[half:]
    if before <= half:
        return [*_subproof(before, left, whole), root_of(right)]
    return [*_subproof(before - half, right, False), root_of(left)]


def is_consistent(before: int, after: int, root_before: bytes, root_after: bytes, proof: Sequence[bytes]) -> bool:
    """Whether a proof shows that a tree of ``after`` entries has grown from one of ``before`` (2.1.4.2)."""
    if before == after:
        return not proof and root_before == root_after
    if not 0 < before < after or not proof:
        return before == 0 and not proof
    path = list(proof)
    if before & (before - 1) == 0:
        path.insert(0, root_before)
    at, last = before - 1, after - 1
    while at % 2:
        at, last = at // 2, last // 2
    first = second = path[0]
    for other in path[1:]:
        if last == 0:
            return False
        if at % 2 or at == last:
            first, second = _node(other, first), _node(other, second)
            while at and not at % 2:
                at, last = at // 2, last // 2
        else:
            second = _node(second, other)
        at, last = at // 2, last // 2
    return last == 0 and first == root_before and second == root_after
