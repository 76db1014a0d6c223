"""Search, kept filters and their mail, lists taken away, how somebody moves, and what is held about them."""

from __future__ import annotations

import csv
import io
import json
import zipfile
from datetime import UTC, date, datetime
from typing import Any
from uuid import UUID

import jsonschema
import pytest
from sqlalchemy import event, select, text, update
from sqlalchemy.exc import DBAPIError

from openlatch import schemas
from openlatch.core.journal import chain
from openlatch.core.journal.erasure import pseudonym
from openlatch.core.latches import LatchKind, LatchMode
from openlatch.core.reviews import evidence_bundle
from openlatch.core.vocabulary import Verdict
from openlatch.errors import BadFilter, BadInput, Conflict, Held, NotAllowed, NotFound
from openlatch.service import imports, signing_keys
from openlatch.service.accounts import settings
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.identity import authentication
from openlatch.service.latches import guard
from openlatch.service.latches.guard import Setting
from openlatch.service.lists import export, register, saved_filters
from openlatch.service.lists.search import search
from openlatch.service.people import erasure, held_data, moves
from openlatch.service.records import edit, file_columns, whole_register
from openlatch.service.reviews import close_round, decisions, evidence, open_round
from openlatch.service.reviews.plans import Review, named
from openlatch.service.revocations import prepare, revoke
from openlatch.service.unit import Unit, Viewer
from openlatch.store import journal
from openlatch.store.database import driver_of
from openlatch.store.lists.engine import ListQuery
from openlatch.store.tables import Account, Base, EvidenceBundle, Flag, Grant, Item, Person, SignIn, Team
from openlatch.worker import tasks
from tests.service.conftest import Small, mailed


def found(small: Small, who: str, words: str, administrator: bool = False) -> list[tuple[str, str]]:
    acting = small.acting_as_administrator if administrator else small.acting
    with acting(who) as unit:
        return [(one.kind, one.label) for one in search(unit, words).found]


def test_search_finds_everything_by_its_words_and_only_what_may_be_seen(small: Small) -> None:
    """People and accounts first; grants and flags by whose and where; signs are only signs."""
    assert found(small, "ines", "mara", administrator=True)[:1] == [("people", "Mara")]
    assert ("grants", "Mara on Box") in found(small, "ines", "mara box", administrator=True)
    assert any(kind == "flags" for kind, _ in found(small, "ines", "edda", administrator=True))
    assert ("accounts", "Ledger") not in found(small, "owen", "rota")
    assert found(small, "edda", "mara") == []
    assert found(small, "ines", "m", administrator=True) == []
    assert found(small, "ines", "%%", administrator=True) == []
    assert found(small, "ines", "' or 1=1 --", administrator=True) == []


def taken(unit: Unit, name: str, text_: str, form: str) -> str:
    with export.export(unit, name, ListQuery(text_, sort="-name" if name == "people" else ""), form) as held:
        return held.read().decode()


def test_a_page_works_out_only_what_it_shows(small: Small) -> None:
    """The levels of a grant are put together for the rows of the page, not for everything that matches."""
    asked: list[tuple[str, Any]] = []
    with small.service.unit(small.itself) as unit:
        event.listen(small.service.engine, "before_cursor_execute", lambda *call: asked.append((call[2], call[3])))
        page = register.page(unit, "grants", ListQuery(sort="holder.name", limit=3))
        statement, values = max(asked, key=lambda each: len(each[0]))
        cursor = driver_of(unit.db).execute(f"explain (analyze, timing off) {statement}", values)
        worked_out = [line for (line,) in cursor if "Aggregate" in line and "rows=1 loops=" in line]
    assert len(page.rows) == 3
    assert worked_out
    assert [line for line in worked_out if "loops=4)" not in line] == []


def test_a_filter_for_a_state_finds_what_is_shown_in_it(small: Small) -> None:
    """What is active and still to be given in its system is in the one state, and not in the other."""
    with small.service.unit(small.itself) as unit:
        active = list(unit.db.scalars(select(Grant).where(Grant.state == "active").limit(3)))
        active[0].owed, active[0].handle = "give", {}
        active[1].owed, active[1].handle = "give", {"member": "known"}
        active[2].owed, active[2].handle = "change", {}
        unit.db.flush()
        shown = {row["id"]: row["state"] for row in register.page(unit, "grants", ListQuery(limit=500)).rows}
        assert shown[active[0].id] == "to_be_given"
        for state in {*shown.values(), "revoking"}:
            wanted = {ident for ident, said in shown.items() if said == state}
            for written, expected in (
                (f'state eq "{state}"', wanted),
                (f'not (state eq "{state}")', set(shown) - wanted),
                (f'state ne "{state}"', set(shown) - wanted),
            ):
                rows = register.page(unit, "grants", ListQuery(filter=written, limit=500)).rows
                assert {row["id"] for row in rows} == expected, written


def test_a_list_is_taken_away_as_it_is_filtered(small: Small) -> None:
    """Whole, over all its pages, with nothing that a spreadsheet would run."""
    with small.service.unit(small.itself) as unit:
        unit.db.execute(update(Person).where(Person.id == small.person("owen")).values(name="=1+1"))
        unit.db.execute(
            text(
                "insert into people (id, organisation_id, name, inside) select gen_random_uuid(), :o, 'P ' || n, true "
                "from generate_series(1, 620) n"
            ),
            {"o": small.itself.organisation},
        )
    with small.acting_as_administrator("ines") as unit:
        rows = list(csv.DictReader(io.StringIO(taken(unit, "people", 'standing eq "current"', "csv"))))
        assert len(rows) == 624
        assert "'=1+1" in {row["name"] for row in rows}
        found = json.loads(taken(unit, "grants", 'holder.kind eq "app"', "json"))
        assert [(row["holder"]["name"], row["account"]["name"]) for row in found] == [("Sync", "Box")]
        with pytest.raises(BadFilter):
            taken(unit, "people", "shoe pr", "csv")
    with small.acting("edda") as unit:
        assert [row["name"] for row in json.loads(taken(unit, "accounts", "", "json"))] == ["Rota"]


def test_filters_are_kept_shared_and_mailed_as_the_reader_sees_it(small: Small) -> None:
    """One's own are changed by nobody else; what is sent is what the reader may see, if anything."""
    for key, role in (("ines", "administrator"), ("mara", "member")):
        who = small.signed_in(key)
        with small.service.unit(small.itself) as unit:
            unit.db.execute(update(SignIn).where(SignIn.id == who.sign_in).values(role=role))
    with small.acting("ines") as unit:
        kept = saved_filters.keep(unit, "Apps with access", "grants", ListQuery('holder.kind eq "app"'), True)
        own = saved_filters.keep(unit, "Mine", "people", ListQuery('name co "m"'), False)
        with pytest.raises(Conflict, match="already"):
            saved_filters.keep(unit, "Mine", "people", ListQuery(), False)
        with pytest.raises(BadFilter):
            saved_filters.keep(unit, "Bad", "people", ListQuery("shoe pr"), False)
        with pytest.raises(BadInput, match="kept for"):
            saved_filters.keep(unit, "Bad", "shoes", ListQuery(), False)
        saved_filters.set_mail(unit, kept.id, "day")
    with small.acting("mara") as unit:
        seen = saved_filters.every(unit, None).filters
        assert [(one.name, one.is_mine) for one in seen] == [("Apps with access", False)]
        with pytest.raises(NotFound):
            saved_filters.change(unit, kept.id, "Taken", ListQuery(), True, None)
        with pytest.raises(NotFound):
            saved_filters.set_mail(unit, own.id, "day")
        saved_filters.set_mail(unit, kept.id, "week")
    small.clock.forward(days=1, hours=1)
    tasks.look_round(small.service)
    tasks.look_round(small.service)
    letters = [letter for letter in mailed(small.service, small.itself.organisation) if "Apps with access" in letter[1]]
    assert [(to, subject) for to, subject, _ in letters] == [("ines@example.org", "Apps with access: 1 grants")]
    assert "Sync, Box" in letters[0][2]
    small.clock.forward(days=7)
    tasks.look_round(small.service)
    told = {to for to, subject, _ in mailed(small.service, small.itself.organisation) if "Apps with access" in subject}
    assert told == {"ines@example.org"}, "Mara sees no app's grant"
    with small.acting("ines") as unit:
        saved_filters.remove(unit, kept.id)
        assert [one.name for one in saved_filters.every(unit, None).filters] == ["Mine"]


def test_a_move_shows_what_is_kept_lost_gained_and_what_others_hold(small: Small) -> None:
    """Nothing happens by it."""
    with small.acting_as_administrator("ada") as unit:
        edit.change(unit, "people", small.person("mara"), {"job": "Bookkeeper"})
        for name in ("Cleo", "Dora"):
            made = edit.make(unit, "people", _person(name))
            held = Grant(
                organisation_id=unit.viewer.organisation,
                account_id=small.account("ledger"),
                person_id=made.id,
                given_at=unit.now,
                state="pending",
            )
            unit.db.add(held)
            unit.db.flush()
            _term(unit, held.id, small.level("pay"))
        waiting = (Grant.state == "pending", Grant.account_id == small.account("ledger"))
        unit.db.execute(update(Grant).where(*waiting).values(state="active"))
        team = unit.db.scalars(select(Team.id).where(Team.key == "wardens")).one()
        shown = moves.plan(unit, small.person("owen"), "bookkeeper", leaves=[team])
    assert (shown.job, shown.peers) == ("bookkeeper", 3)
    assert [one.account.name for one in shown.loses] == ["Box", "Ledger"]
    assert [(one.account.name, one.level.name, one.held_by) for one in shown.might_need] == [("Ledger", "Pay", 2)]
    with small.acting_as_administrator("ada") as unit:
        with pytest.raises(BadInput, match="not in that team"):
            moves.plan(unit, small.person("ines"), None, leaves=[team])
        kept = moves.plan(unit, small.person("mara"), None)
        assert {one.account.name for one in kept.keeps} == {"Box", "Ledger"}
    with pytest.raises(NotAllowed), small.acting("mara") as unit:
        moves.plan(unit, small.person("mara"), None)


def _person(name: str) -> dict[str, object]:
    return schemas.FORMS["people"].model_validate({"name": name, "job": "Bookkeeper"}).model_dump()


def _term(unit: Unit, grant: UUID, level: UUID) -> None:
    unit.db.execute(
        text("insert into terms (id, organisation_id, grant_id, level_id) values (gen_random_uuid(), :o, :g, :l)"),
        {"o": unit.viewer.organisation, "g": grant, "l": level},
    )


def test_what_is_held_about_somebody_is_for_them_and_for_administrators(small: Small) -> None:
    """Without what proves who they are; and that it was taken is in the journal."""
    who = small.signed_in("mara")
    with small.service.unit(who) as unit:
        taken = held_data.of_person(unit, small.person("mara"))
        assert [row["account"]["name"] for row in taken.grants] == ["Box"]
        assert taken.person["name"] == "Mara"
        assert taken.sign_ins
        assert "argon2" not in json.dumps(taken, default=str)
        with pytest.raises(NotFound):
            held_data.of_person(unit, small.person("ines"))
    with small.acting_as_administrator("ines") as unit:
        again = held_data.of_person(unit, small.person("mara"))
        assert "person.data_taken" in {row["action"] for row in again.journal}


def test_who_pays_is_known_to_previews_latches_and_flags(small: Small) -> None:
    """Ending the payer's access is held by the latch, told in the preview, and their leaving is flagged."""
    with small.acting_as_administrator("ines") as unit:
        edit.change(unit, "accounts", small.account("box"), {"payer": {"kind": "person", "id": small.person("mara")}})
        guard.switch(unit, Setting(LatchKind.PAYER_STAYS, LatchMode.HOLD, small.account("box"), None))
    wish = prepare.Wish(tuple(small.grant(key) for key in ("box|person|mara|run", "box|team|wardens|read")))
    with small.acting("ines") as unit:
        shown = revoke.preview(unit, wish)
        assert [stop.sentence for stop in shown.stops if stop.kind == "payment"] == [
            "Mara pays for Box, as long as they keep doing so; name another payer"
        ]
        assert "Mara, who pays for it, has no access" in {breach.fact for breach in shown.latches}
    with pytest.raises(Held), small.acting("ines") as unit:
        revoke.start(unit, wish, "Over.")
    with small.acting_as_administrator("ines") as unit:
        gone = {"standing": "left", "leaves_at": datetime(2026, 3, 2, tzinfo=UTC)}
        unit.db.execute(update(Person).where(Person.id == small.person("mara")).values(gone))
        evaluate_flags.evaluate_person(unit, small.person("mara"), [])
        edit.change(unit, "accounts", small.account("rota"), {"paid_until": date(2026, 3, 15)})
    assert small.open_flags("payer_left") == {"Mara, who pays for Box, left on 1 March 2026."}
    assert small.open_flags("payment_ends") == {
        "Rota is paid for until 15 March 2026; who pays after that is not known."
    }


def test_the_whole_register_is_taken_away_and_fills_another_organisation(small: Small) -> None:
    """The same people, access and ends, by ids of their own; never into one that is filled, and never half."""
    with small.service.unit(small.itself) as unit:
        written = b"".join(whole_register.lines(unit))
    checker = jsonschema.Draft202012Validator(whole_register.schema())
    for line in written.splitlines():
        assert list(checker.iter_errors(json.loads(line))) == [], line
    assert b"argon2" not in written
    other = authentication.make_organisation(
        small.service, "Other", "other", "Europe/Oslo", "Ines", "ines@example.org", "a long password"
    )
    with small.service.unit(other) as unit:
        person = unit.db.scalars(select(Person)).one()
        viewer = Viewer(other.organisation, person.name, person.id, administrator=True)
    broken = written.replace(b"Owen", b"Owan", 1)
    for bad, why in ((broken, "not whole"), (written[:-9], "not whole|no JSON"), (b"{}\n", "not whole")):
        with pytest.raises(BadInput, match=why), small.service.unit(viewer) as unit:
            whole_register.bring(unit, io.BytesIO(bad))
    with small.service.unit(viewer) as unit:
        found = whole_register.bring(unit, io.BytesIO(written))
    assert (found.rows["grants"], found.rows["terms"], found.rows["people"]) == (7, 7, 4)
    evaluate_flags.evaluate_all(small.service, viewer.organisation)
    with small.service.unit(viewer) as unit:
        rows = register.page(unit, "grants", ListQuery(limit=50)).rows
        assert {(row["holder"]["name"], row["account"]["name"], row["state"]) for row in rows} >= {
            ("Wardens", "Box", "active"),
            ("Owen", "Rota", "suspended"),
            ("Box", "Ledger", "active"),
        }
        owner = unit.db.scalars(select(Account.owner_id).where(Account.name == "Box")).one()
        assert owner == viewer.person, "whoever brings it is who they were"
        sentences = set(unit.db.scalars(select(Flag.sentence).where(Flag.state == "open")))
    assert {s for s in small.open_flags() if "Edda" in s} == {s for s in sentences if "Edda" in s}
    with pytest.raises(Conflict, match="already"), small.service.unit(viewer) as unit:
        whole_register.bring(unit, io.BytesIO(written))


FOREIGN = (
    b"Staff number;Full name;E-mail;Job title;Shoe size\n"
    b"n1;Noor;noor@example.org;Warden;38\n"
    b"mara;Mara Quist;mara@example.org;Bookkeeper;40\n"
    b"n2;;nobody;Cook;41\n"
)


def test_a_foreign_file_is_matched_tried_and_its_refused_lines_are_given_back(small: Small) -> None:
    """By the names of its columns and by what is in them; the matching is there the next time."""
    with small.service.unit(small.itself) as unit:
        looked = file_columns.look(unit, "people", "csv", io.BytesIO(FOREIGN))
        matching = {column.name: column.field for column in looked.columns}
        assert matching == {
            "Staff number": "key",
            "Full name": "name",
            "E-mail": "address",
            "Job title": "job",
            "Shoe size": "",
        }
        tried = imports.bring(unit, "people", "csv", io.BytesIO(FOREIGN), True, True, matching)
        assert (tried.added, tried.changed, tried.unchanged, tried.bad, tried.kept) == (1, 1, 0, 1, False)
        assert tried.fresh == ["Noor"]
        assert ("name", "Mara", "Mara Quist") in {(d.field, d.was, d.will) for d in tried.differences}
        with file_columns.refused(unit, "people", "csv", io.BytesIO(FOREIGN), matching) as held:
            (line,) = csv.DictReader(io.StringIO(held.read().decode()))
        assert (line["Staff number"], line["Shoe size"]) == ("n2", "41")
        assert "name: is empty" in line["why"]
        assert unit.db.scalars(select(Person.name).where(Person.key == "n1")).first() is None
        file_columns.keep(unit, "people", {**matching, "Job title": ""})
        again = file_columns.look(unit, "people", "csv", io.BytesIO(FOREIGN))
        assert {c.name: (c.field, c.by) for c in again.columns}["Job title"] == ("", "kept")
        brought = imports.bring(unit, "people", "csv", io.BytesIO(FOREIGN), True, False, matching)
        assert (brought.added, brought.changed, brought.bad, brought.kept) == (1, 1, 1, True)
    with pytest.raises(BadInput, match="missing: 'name'"), small.service.unit(small.itself) as unit:
        imports.bring(unit, "people", "csv", io.BytesIO(FOREIGN), True, True, {**matching, "Full name": ""})
    objects = b'{"Mail": "x@example.org", "Who": "Xaver"}\n{"Mail": "y@example.org", "Who": "Yara"}\n'
    with small.service.unit(small.itself) as unit:
        looked = file_columns.look(unit, "people", "jsonl", io.BytesIO(objects))
        assert [(c.name, c.field) for c in looked.columns] == [("Mail", "address"), ("Who", "")]


def test_who_is_erased_is_named_nowhere_and_the_journal_still_holds(small: Small) -> None:
    """By a stable pseudonym in records, earlier versions and the journal; a change that no erasing names is found."""
    edda = small.person("edda")
    with pytest.raises(Conflict, match="still has 1 grant"), small.acting_as_administrator("ines") as unit:
        erasure.erase(unit, edda)
    with pytest.raises(Conflict, match="has not left"), small.acting_as_administrator("ines") as unit:
        erasure.erase(unit, small.person("owen"))
    with small.acting_as_administrator("ines") as unit:
        unit.record("person.changed", "person", edda, "Edda", note="Edda asked by edda@example.org")
        unit.record("thing.done", "thing", None, "A talk with Edda", told="by edda@example.org")
        unit.db.execute(update(Grant).where(Grant.person_id == edda).values(state="ended", ended_as="revoked"))
        unit.db.execute(update(Grant).where(Grant.key == "box|person|mara|run").values(reason="Edda's work."))
    with small.acting_as_administrator("ines") as unit:
        shown = erasure.preview(unit, edda)
        assert unit.db.get_one(Person, edda).name == "Edda"
        done = erasure.erase(unit, edda)
    called = pseudonym(edda)
    assert (done.person.name, done.erased["journal"]) == (called, shown.erased["journal"])
    with small.service.unit(small.itself) as unit:
        for table in Base.metadata.sorted_tables:
            held = unit.db.execute(text(f'select to_jsonb(t)::text from "{table.name}" t')).scalars().all()
            left = [row for row in held if "Edda" in row or "edda@example.org" in row]
            assert left == [], f"{table.name} still names them"
        entries = list(journal.export(unit.db, small.itself.organisation))
    assert chain.verify(entries).faults == ()
    talk = next(entry for entry in entries if entry["action"] == "thing.done")
    assert (talk["subject"]["name"], talk["facts"]) == (f"A talk with {called}", {"told": f"by {called}"})
    assert "key" not in talk
    # Somebody else's erasing names no entry of these: without its own, one counts as altered.
    forged = [
        {**entry, "facts": {}} if entry is talk else entry for entry in entries if entry["action"] != chain.ERASED
    ]
    assert any("no entry says" in fault.what for fault in chain.verify(forged).faults)
    other = next(entry for entry in entries if entry.get("key") and entry["facts"])
    faults = chain.verify([{**one, "facts": {}} if one is other else one for one in entries]).faults
    assert [fault.what for fault in faults] == ["altered: the hash does not match what it says"]
    assert ("people", called) in found(small, "ines", "former person", administrator=True)
    with pytest.raises(Conflict, match="already"), small.acting_as_administrator("ines") as unit:
        erasure.erase(unit, edda)


def test_evidence_of_whoever_is_erased_is_signed_before_and_stays_as_it_was(small: Small) -> None:
    """Not while the review is open, nor before it is signed; and an addendum afterwards rewrites nothing."""
    edda, mara = small.person("edda"), small.person("mara")
    with small.service.unit(small.itself) as unit:
        ident = open_round.open_round(unit, Review("Spring", 'holder.name eq "Edda"', reviewers=named(mara)))
    with small.acting("mara") as unit:
        (item,) = unit.db.scalars(select(Item.id).where(Item.round_id == ident))
        decisions.decide(unit, ident, item, decisions.Decision(Verdict.KEEP, "Edda still helps."))
    with small.service.unit(small.itself) as unit:
        unit.db.execute(update(Grant).where(Grant.person_id == edda).values(state="ended", ended_as="revoked"))
    with pytest.raises(Conflict, match="has not ended"), small.acting_as_administrator("ines") as unit:
        erasure.erase(unit, edda)
    with small.service.unit(small.itself) as unit:
        close_round.close(unit, ident)
    close_round.carry_on(small.service, small.itself, ident)
    with pytest.raises(Conflict, match="is being signed"), small.acting_as_administrator("ines") as unit:
        erasure.erase(unit, edda)
    evidence.sign(small.service, small.itself, ident, b"{}")
    before = _signed(small)
    with small.acting_as_administrator("ines") as unit:
        assert any("Spring" in line for line in erasure.erase(unit, edda).kept)
    with small.service.unit(small.itself) as unit:
        frozen = unit.db.scalars(select(Item)).one()
        assert "Edda" not in f"{frozen.facts} {frozen.holder} {frozen.reason}"
    # Nobody else gets past what keeps an ended review as it is by saying that they erase.
    with small.service.unit(small.itself) as unit:
        unit.db.execute(text("select set_config('openlatch.erasing', 'on', true)"))
        with pytest.raises(DBAPIError, match="has ended"):
            unit.db.execute(update(Item).values(reason="Otherwise."))
        unit.db.rollback()
    with small.service.unit(small.itself) as unit:
        unit.db.execute(update(EvidenceBundle).values(addenda=9))
    evidence.sign(small.service, small.itself, ident, b"{}")
    key = signing_keys.public(small.service, signing_keys.EVIDENCE)["x"]
    again = _signed(small)
    assert evidence_bundle.verify(again, [key]).faults == ()
    with zipfile.ZipFile(io.BytesIO(before)) as one, zipfile.ZipFile(io.BytesIO(again)) as other:
        assert one.read("evidence.json") == other.read("evidence.json")


def _signed(small: Small) -> bytes:
    with small.service.unit(small.itself) as unit:
        return unit.db.scalars(select(EvidenceBundle.content)).one()


def test_who_left_is_erased_by_itself_when_their_time_is_over(small: Small) -> None:
    """As the organisation has set; nobody while it has not."""
    with small.service.unit(small.itself) as unit:
        held = update(Grant).where(Grant.person_id == small.person("edda"))
        unit.db.execute(held.values(state="ended", ended_as="revoked"))
        assert erasure.due(unit) == []
    with small.acting_as_administrator("ines") as unit:
        assert settings.change(unit, 48, [], [], keep_left_months=6).keep_left_months == 6
        assert erasure.due(unit) == []
    small.clock.forward(days=190)
    tasks.look_round(small.service)
    with small.service.unit(small.itself) as unit:
        (name,) = unit.db.scalars(select(Person.name).where(Person.erased_at.is_not(None)))
    assert name.startswith("Former person")


def test_values_of_an_attribute_are_those_that_the_viewer_may_see(small: Small) -> None:
    """For choosing filters: by words, sorted, and only of visible rows; an unknown attribute says what is close."""
    with small.service.unit(small.itself) as unit:
        assert register.values(unit, "grants", "account.name", "").values == ["Box", "Ledger", "Rota"]
        assert register.values(unit, "grants", "holder.name", "ar").values == ["Mara", "Wardens"]
        with pytest.raises(BadFilter, match="no attribute") as wrong:
            register.values(unit, "grants", "holder.nam", "")
        assert wrong.value.fields == {"filter": "holder.nam"}
        assert wrong.value.remedy.startswith("Did you mean holder.name")
    with pytest.raises(NotFound), small.service.unit(small.itself) as unit:
        register.values(unit, "secrets", "name", "")
    with small.acting("mara") as unit:
        assert "Rota" not in register.values(unit, "grants", "account.name", "").values
    for name in register.LISTS:
        assert register.attributes(name).attributes
