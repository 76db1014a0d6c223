"""The evidence of a round that has ended, verified with nothing else at hand; and a person's calendar."""

from __future__ import annotations

import base64
import csv
import io
import json
import random
import re
import zipfile
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from uuid import UUID

import jsonschema
import pytest
from cryptography.fernet import Fernet
from hypothesis import given
from hypothesis import strategies as st
from icalendar import Calendar
from sqlalchemy import create_engine, select, update

from openlatch import schemas
from openlatch.core.journal import chain
from openlatch.core.reviews import evidence_bundle
from openlatch.core.vocabulary import Verdict
from openlatch.errors import Conflict, NotAllowed, NotFound
from openlatch.service import signing_keys
from openlatch.service.reviews import calendar_feed, close_round, decisions, evidence, open_round, rounds
from openlatch.service.reviews.plans import Review, named
from openlatch.service.revocations import steps
from openlatch.service.unit import Service
from openlatch.store.tables import Account, Item, Person, Revocation, SignIn, Step
from openlatch.worker import tasks
from tests.service.conftest import Small

SCHEMA = json.dumps(schemas.evidence_schema()).encode()


@pytest.fixture
def ended(small: Small) -> UUID:
    """A round with a keep, a revocation confirmed by hand, and an item that nobody decided."""
    with small.service.unit(small.itself) as unit:
        unit.db.get_one(Account, small.account("box")).name = '=HYPERLINK("x")'
        unit.db.flush()
        review = Review("Spring", 'level eq "Read"', acts="at_close", reviewers=named(small.person("mara")))
        ident = open_round.open_round(unit, review)
        found = {item.holder: item for item in unit.db.scalars(select(Item).where(Item.round_id == ident))}
    with small.acting("mara") as unit:
        decisions.ask(unit, ident, found["Sync"].id, "Still needed?")
        decisions.decide(unit, ident, found["Sync"].id, decisions.Decision(Verdict.REVOKE, "First thought."))
        decisions.undo(unit, ident, found["Sync"].id)
        decisions.decide(unit, ident, found["Sync"].id, decisions.Decision(Verdict.KEEP, "Copies the rota."))
        decisions.decide(unit, ident, found["Edda"].id, decisions.Decision(Verdict.REVOKE, "She left."))
    with pytest.raises(Conflict, match="has not ended"), small.service.unit(small.itself) as unit:
        evidence.bundled(unit, ident, SCHEMA)
    with small.service.unit(small.itself) as unit:
        close_round.close(unit, ident, dict.fromkeys(("observe", "operate", "spend", "steward"), "keep"))
    close_round.carry_on(small.service, small.itself, ident)
    with small.service.unit(small.itself) as unit:
        step, revocation = unit.db.execute(select(Step.id, Step.revocation_id).join(Revocation)).one()
        steps.done_by_hand(unit, revocation, step, "Removed; two members are left.")
    assert close_round.carry_on(small.service, small.itself, ident)
    return ident


@pytest.fixture
def small_bundle(small: Small, ended: UUID) -> tuple[bytes, str]:
    """A bundle, and the key that it is signed with."""
    return bundled(small, ended), signing_keys.public(small.service, signing_keys.EVIDENCE)["x"]


def bundled(small: Small, ident: UUID) -> bytes:
    with small.service.unit(small.itself) as unit:
        return evidence.bundled(unit, ident, SCHEMA)[1]


def members(data: bytes) -> dict[str, bytes]:
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        return {name: archive.read(name) for name in archive.namelist()}


def test_a_bundle_says_what_was_reviewed_decided_and_carried_out(small: Small, ended: UUID) -> None:
    """By its schema; counts that add up; the same each time it is made; and only for administrators."""
    data = bundled(small, ended)
    assert data == bundled(small, ended)
    held = members(data)
    found = json.loads(held["evidence.json"])
    jsonschema.validate(found, json.loads(held["evidence.schema.json"]), format_checker=jsonschema.FormatChecker())
    shown = {item["holder"]: item for item in found["items"]}
    assert found["totals"] == {
        "kept": 3,
        "trimmed": 0,
        "revoked": 1,
        "nothing_done": 0,
        "by_default": 2,
        "to_administrators": 1,
        "seconded": 0,
        "explained": 0,
        "ended": {"confirmed": 0, "stated": 1, "unproved": 0, "contradicted": 0},
    }
    assert "of 5 live items of the kind grant the filter took 3" in found["completeness"]["statement"]
    done = shown["Edda"]["carried_out"]
    assert (done["proof"], done["proved_by"]) == ("stated", "Open Latch")
    assert done["steps"][0]["answer"] == "Open Latch says: Removed; two members are left."
    # Mara decided two; what nobody decided is credited to nobody.
    (mara,) = [one for one in found["reviewers"] if one["name"] == "Mara"]
    assert (mara["decided"], mara["kept"], mara["by_default"], mara["by_others"]) == (2, 1, 1, 0)
    assert all(one["share_kept"] is None for one in found["reviewers"] if one["name"] != "Mara")
    with small.service.unit(small.itself) as unit:
        page = rounds.page(unit, ended)
    assert (page.items, page.decided, page.left_undecided) == (4, 2, 2)
    assert (shown["Sync"]["decision"]["verdict"], shown["Sync"]["decision"]["by"]) == ("keep", "Mara")
    assert shown["Sync"]["questions"][0]["question"] == "Still needed?"
    told = [x["what"] for x in found["exceptions"]]
    assert told.count("Nobody decided; as Open Latch said when closing the round: keep.") == 2
    assert "Stated: Open Latch says: Removed; two members are left." in told
    rows = list(csv.DictReader(io.StringIO(held["items.csv"].decode())))
    assert {row["account"] for row in rows} == {'\'=HYPERLINK("x")', "Rota"}
    page = held["report.html"].decode()
    assert "Items: 4; kept 3, trimmed 0, revoked 1. Undecided at the close: 2." in page
    german = held["report-de.html"].decode()
    assert '<html lang="de">' in german
    assert "Posten: 4; behalten 3, eingeschränkt 0, entzogen 1. Beim Schließen nicht entschieden: 2." in german
    assert re.search(r"Geöffnet: \d+\. März 2026, \d\d:\d\d UTC\.", german)
    assert not {"Who decided", "Every item", "How to check this", "kept by", "Opened"} & set(re.split(r"[<>]", german))
    assert held["report-de.pdf"].startswith(b"%PDF-")
    assert "=HYPERLINK(&#34;x&#34;)" in page
    assert held["report.pdf"].startswith(b"%PDF-")
    with pytest.raises(NotAllowed), small.acting("mara") as unit:
        evidence.bundled(unit, ended, SCHEMA)


def test_a_single_changed_byte_is_found_wherever_it_is(small: Small, ended: UUID) -> None:
    """In the archive itself, the manifest, the signature or any member; an end cut off, too."""
    data = bundled(small, ended)
    sound = evidence_bundle.verify(data)
    assert (sound.unaltered, sound.sound, sound.items, sound.round) == (True, False, 4, "Spring")
    key = signing_keys.public(small.service, signing_keys.EVIDENCE)["x"]
    assert evidence_bundle.verify(data, [key]).sound
    places = random.Random(7).sample(range(len(data)), 300)
    for place in [0, len(data) - 1, *places]:
        changed = bytearray(data)
        changed[place] ^= 1
        assert not evidence_bundle.verify(bytes(changed)).unaltered, place
    assert not evidence_bundle.verify(data[:-10]).unaltered
    assert not evidence_bundle.verify(data + b"\n").unaltered
    assert not evidence_bundle.verify(b"").unaltered


@given(st.data())
def test_no_random_change_passes_as_sound(small_bundle: tuple[bytes, str], data: st.DataObject) -> None:
    """Changed bytes, members in another order, packed in another way, cut off, or signed by somebody else."""
    whole, key = small_bundle
    held = members(whole)
    way = data.draw(st.sampled_from(("byte", "order", "packing", "cut", "insert", "drop", "sign anew")))
    changed = bytearray(whole)
    if way == "byte":
        changed[data.draw(st.integers(0, len(whole) - 1))] ^= data.draw(st.integers(1, 255))
    elif way == "order":
        order = data.draw(st.permutations(list(held)).filter(lambda names: names != list(held)))
        changed = bytearray(evidence_bundle.pack({name: held[name] for name in order}))
    elif way == "packing":
        target = io.BytesIO()
        with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as archive:
            for name, content in held.items():
                archive.writestr(zipfile.ZipInfo(name, (2000, 1, data.draw(st.integers(1, 28)), 0, 0, 0)), content)
        changed = bytearray(target.getvalue())
    elif way == "cut":
        del changed[data.draw(st.integers(0, len(whole) - 1)) :]
    elif way == "insert":
        changed.insert(data.draw(st.integers(0, len(whole))), data.draw(st.integers(0, 255)))
    elif way == "drop":
        del held[data.draw(st.sampled_from(list(held)))]
        changed = bytearray(evidence_bundle.pack(held))
    else:
        changed = bytearray(signed_anew(held, data.draw(st.binary(min_size=1, max_size=8))))
    assert not evidence_bundle.verify(bytes(changed), [key]).sound


def signed_anew(held: dict[str, bytes], seed: bytes) -> bytes:
    """The same bundle, made again around its members by somebody with a key of their own."""
    held = dict(held)
    manifest = json.loads(held.pop("manifest.json"))
    del held["manifest.sig"]
    forger = Service(create_engine("postgresql+psycopg://"), Fernet(Fernet.generate_key()), evidence_seed=seed)
    manifest["files"], manifest["key"] = (
        evidence_bundle.describe(held),
        signing_keys.public(forger, signing_keys.EVIDENCE),
    )
    head = json.loads(held["tree_head.json"])
    unsigned = {name: value for name, value in head["head"].items() if name != "signature"}
    unsigned["key"] = manifest["key"]["x"]
    signature = signing_keys.key(forger, signing_keys.EVIDENCE).sign(chain.canonical(unsigned))
    head["head"] = {**unsigned, "signature": base64.urlsafe_b64encode(signature).decode()}
    held["tree_head.json"] = json.dumps(head).encode()
    manifest["files"] = evidence_bundle.describe(held)
    written = json.dumps(manifest).encode()
    signature = signing_keys.key(forger, signing_keys.EVIDENCE).sign(written)
    return evidence_bundle.pack({"manifest.json": written, "manifest.sig": signature, **held})


def test_a_bundle_that_is_signed_anew_is_unaltered_but_by_whom_is_not_known(small: Small, ended: UUID) -> None:
    """Whoever has no key that they trust is never told that it is sound."""
    forged = signed_anew(members(bundled(small, ended)), b"somebody else")
    found = evidence_bundle.verify(forged)
    assert (found.faults, found.unaltered, found.sound) == ((), True, False)
    assert not evidence_bundle.verify(
        forged, [signing_keys.public(small.service, signing_keys.EVIDENCE)["x"]]
    ).unaltered


@pytest.mark.parametrize(
    ("name", "change", "told"),
    [
        ("evidence.json", lambda e: e["items"][0]["facts"].update(reach=4), "frozen items are not those"),
        ("evidence.json", lambda e: e["items"].pop(), "counts do not add up"),
        ("evidence.json", lambda e: e["items"][0]["decision"].update(verdict="trim", fate=None), "decision is not"),
        ("evidence.json", lambda e: e["items"][1]["decision"].update(reason="Because."), "decision is not"),
    ],
)
def test_somebody_who_signs_anew_is_found_by_the_journal_and_by_the_key(
    small: Small, ended: UUID, name: str, change: Any, told: str
) -> None:
    """A bundle made again, around evidence that was changed, does not agree with itself."""
    held = members(bundled(small, ended))
    found = json.loads(held[name])
    change(found)
    held[name] = json.dumps(found).encode()
    manifest = json.loads(held.pop("manifest.json"))
    del held["manifest.sig"]
    manifest["files"] = evidence_bundle.describe(held)
    other = small.service.__class__(small.service.engine, small.service.cipher, evidence_seed=b"somebody else")
    manifest["key"] = signing_keys.public(other, signing_keys.EVIDENCE)
    written = json.dumps(manifest).encode()
    signature = signing_keys.key(other, signing_keys.EVIDENCE).sign(written)
    forged = evidence_bundle.pack({"manifest.json": written, "manifest.sig": signature, **held})
    faults = evidence_bundle.verify(forged).faults
    assert any(told in fault for fault in faults), faults
    pinned = evidence_bundle.verify(forged, [signing_keys.public(small.service, signing_keys.EVIDENCE)["x"]]).faults
    assert "it is signed with a key that is not trusted" in pinned


def test_the_published_schema_is_the_one_in_use() -> None:
    """The document beside the reference is made from the model."""
    published = Path(__file__).parents[2] / "docs" / "reference" / "evidence.schema.json"
    assert json.loads(published.read_text()) == schemas.evidence_schema()


def test_a_calendar_holds_due_dates_and_ends_and_its_address_can_be_taken_away(small: Small) -> None:
    """Read back by a program that knows RFC 5545; only what concerns the person; nothing of them in the address."""
    with small.service.unit(small.itself) as unit:
        review = Review("Spring", 'holder.name eq "Edda"', reviewers=named(small.person("mara")))
        open_round.open_round(unit, review)

    def made(key: str) -> str:
        with small.acting(key) as unit:
            address = str(calendar_feed.make(unit).address)
        assert key not in address
        return address.rpartition("/")[2].removesuffix(".ics")

    def events(token: str) -> dict[str, datetime]:
        found = Calendar.from_ical(calendar_feed.read(small.service, token).decode())
        return {str(e["SUMMARY"]): e.decoded("DTSTART") for e in found.walk("VEVENT")}

    mara, owen = made("mara"), made("owen")
    due, ends = datetime(2026, 3, 24, 12, tzinfo=UTC), datetime(2026, 9, 30, 23, tzinfo=UTC)
    assert events(mara) == {"Review due: Spring": due}
    assert events(owen) == {}
    assert events(made("ines")) == {"Access of Wardens to Box ends": ends}
    with small.service.unit(small.itself) as unit:
        signs_in = unit.db.scalars(
            select(SignIn).join(Person, Person.id == SignIn.person_id).where(Person.key == "ada")
        )
        signs_in.one().preferences = {"locale": "de-AT"}
        unit.db.execute(update(Account).where(Account.name == "Box").values(owner_id=small.person("ada")))
    assert "Zugriff von Wardens auf Box endet" in events(made("ada"))
    with small.acting("mara") as unit:
        assert calendar_feed.page(unit).read_at == small.clock()
    fresh = made("mara")
    with pytest.raises(NotFound):
        events(mara)
    with small.acting("mara") as unit:
        calendar_feed.take_away(unit)
    for token in (fresh, "guess"):
        with pytest.raises(NotFound):
            events(token)
    with small.service.unit(small.itself) as unit:
        unit.db.get_one(Person, small.person("owen")).standing = "left"
    with pytest.raises(NotFound):
        events(owen)
    tasks.look_round(small.service)
