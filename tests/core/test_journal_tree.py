"""The tree over the journal and its signed heads: whatever is changed, somebody who kept one line finds it."""

from __future__ import annotations

import base64
import hashlib
from typing import Any

import pytest
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from hypothesis import given
from hypothesis import strategies as st

from openlatch.core.journal import chain, merkle_tree, tree_heads
from openlatch.core.journal.merkle_tree import Tree
from openlatch.errors import BadInput
from tests.core.test_journal import entries

KEY = Ed25519PrivateKey.from_private_bytes(b"k" * 32)
RAW = KEY.public_key().public_bytes(serialization.Encoding.Raw, serialization.PublicFormat.Raw)
PUBLIC = base64.urlsafe_b64encode(RAW).decode().rstrip("=")


def hashes(count: int) -> list[bytes]:
    return [hashlib.sha256(str(n).encode()).digest() for n in range(count)]


def by_the_standard(leaves: list[bytes]) -> bytes:
    """The Merkle tree hash as RFC 9162 section 2.1.1 defines it, plainly."""
    if not leaves:
        return hashlib.sha256(b"").digest()
    if len(leaves) == 1:
        return hashlib.sha256(b"\x00" + leaves[0]).digest()
    half = 1 << (len(leaves) - 1).bit_length() - 1
    return hashlib.sha256(b"\x01" + by_the_standard(leaves[:half]) + by_the_standard(leaves[half:])).digest()


@given(st.integers(0, 60), st.data())
def test_roots_and_proofs_are_those_of_the_standard(count: int, data: st.DataObject) -> None:
    """A proof shows what is there, and never what is not."""
    leaves = hashes(count)
    root = by_the_standard(leaves)
    assert merkle_tree.root_of(leaves) == root
    if count:
        at = data.draw(st.integers(0, count - 1))
        proof = merkle_tree.inclusion_proof(at, leaves)
        assert merkle_tree.is_included(leaves[at], at, count, proof, root)
        assert not merkle_tree.is_included(b"other" * 6 + b"xx", at, count, proof, root)
        assert not merkle_tree.is_included(leaves[at], at + 1, count, proof, root)
    before = data.draw(st.integers(0, count))
    proof = merkle_tree.consistency_proof(before, leaves)
    assert merkle_tree.is_consistent(before, count, by_the_standard(leaves[:before]), root, proof)
    if 0 < before < count:
        other = by_the_standard([b"x" * 32, *leaves[1:before]])
        assert not merkle_tree.is_consistent(before, count, other, root, proof)


def head(rows: list[dict[str, Any]], since: int | None = None, whose: str = "o") -> tree_heads.Head:
    """A signed head over entries, perhaps with the hashes of those after a position."""
    tree = Tree()
    for row in rows:
        tree.append(bytes.fromhex(row["hash"]))
    made = tree_heads.sign(KEY, PUBLIC, whose, tree, rows[-1]["hash"], "2026-03-10T12:00:00.000000Z")
    if since is not None:
        made["hashes"] = [row["hash"] for row in rows[since:]]
    return tree_heads.parse(made)


def resealed(rows: list[dict[str, Any]], at: int) -> list[dict[str, Any]]:
    """The same journal with one entry changed, and the whole chain sealed anew."""
    changed = [{**row, "facts": {"n": -1}} if n == at else row for n, row in enumerate(rows)]
    return list(chain.chain(changed, 0, chain.START))


@given(st.integers(0, 19))
def test_a_journal_that_was_sealed_anew_is_found_and_the_first_entry_named(at: int) -> None:
    """The chain is whole; only a line that was kept outside tells."""
    whole = entries(20)
    forged = resealed(whole, at)
    assert chain.verify(forged).sound
    exact = chain.verify(forged, heads=tree_heads.Watch([head(whole[:8], 0), head(whole, 8)]))
    assert [fault.position for fault in exact.faults] == [at + 1]
    about = chain.verify(forged, heads=tree_heads.Watch([head(whole[:8]), head(whole[:9]), head(whole)]))
    (fault,) = about.faults
    low, high = (1, 8) if at < 8 else (9, 9) if at == 8 else (10, 20)
    assert (f"between positions {low} and {high}" in fault.what) or (low == high and "at position 9" in fault.what)
    assert not chain.verify(forged, heads=tree_heads.Watch([head(whole)])).sound


def test_heads_of_another_organisation_say_nothing_of_this_one() -> None:
    """They stand in the same file: neither does the journal differ from them, nor do they vouch for it."""
    whole = entries(12)
    others = head(resealed(whole, 3), 0, whose="p")
    verdict = chain.verify(whole, heads=tree_heads.Watch([others]))
    assert (verdict.faults, verdict.vouched) == ((), 0)
    verdict = chain.verify(whole, heads=tree_heads.Watch([others, head(whole[:7])]))
    assert (verdict.faults, verdict.vouched) == ((), 7)


def test_an_end_that_was_cut_off_is_found_and_what_is_vouched_for_is_told() -> None:
    """Nothing beyond a head is said to be vouched for."""
    whole = entries(12)
    verdict = chain.verify(whole, heads=tree_heads.Watch([head(whole[:7])]))
    assert (verdict.sound, verdict.vouched, verdict.entries) == (True, 7, 12)
    cut = chain.verify(whole[:5], heads=tree_heads.Watch([head(whole[:7])]))
    assert [fault.what for fault in cut.faults] == [
        "cut off: the signed head of 2026-03-10T12:00:00.000000Z vouches for 7 entries, and there are 5"
    ]
    assert chain.verify(whole).vouched == 0
    assert chain.verify(whole, (3, whole[2]["hash"])).vouched == 3


def test_a_head_that_somebody_changed_is_not_signed() -> None:
    """Every part of it is under the signature."""
    whole = entries(4)
    good = head(whole)
    assert good.is_signed
    tree = Tree()
    for row in whole:
        tree.append(bytes.fromhex(row["hash"]))
    made = tree_heads.sign(KEY, PUBLIC, "o", tree, whole[-1]["hash"], "2026-03-10T12:00:00.000000Z")
    for name, other in (("size", 3), ("root", "00" * 32), ("at", "2027"), ("organisation", "p"), ("last", "00" * 32)):
        assert tree_heads.unsigned([tree_heads.parse({**made, name: other})])
    assert not tree_heads.unsigned([good])


@pytest.mark.parametrize("content", [b"", b"\n\n", b"{}", b"[1]", b"nonsense", b'{"format": "openlatch-tree-head"}'])
def test_a_file_that_holds_no_head_is_told(content: bytes) -> None:
    """With what is wrong, and never as nothing to compare with."""
    with pytest.raises(BadInput):
        tree_heads.read(content)


@pytest.mark.parametrize("facts", [{"x": float("nan")}, {"x": 1e999}, {"x": 2**70}])
def test_an_entry_that_could_not_have_been_sealed_is_altered(facts: dict[str, Any]) -> None:
    """Instead of failing on it."""
    (entry,) = entries(1)
    assert any("altered" in fault.what for fault in chain.verify([{**entry, "facts": facts}]).faults)
