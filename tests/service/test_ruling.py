"""Setting the rules: what a change would raise and clear is what it then raises and clears; own rules; the digest."""

from __future__ import annotations

import io
import random
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from sqlalchemy import select, text, update

from openlatch.core.flags import BOOKS, Weights
from openlatch.core.flags.rule import facts_of
from openlatch.errors import BadInput, Conflict, NotAllowed, NotFound
from openlatch.service import imports
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.flags import known_facts, rule_settings, weekly_letter
from openlatch.service.flags import manage as manage_flags
from openlatch.service.flags.rule_settings import Wish
from openlatch.store.flags import evaluate_many, evaluate_one
from openlatch.store.flags.sql_expressions import ROOM
from openlatch.store.tables import Flag, Grant, Organisation, Person
from tests.seeds import seeds
from tests.service.conftest import Small, mailed
from tests.service.test_use_cases import SUBJECTS

OWN = """
format = "open-latch-rules/1"
[[rule]]
key = "wardens_in_boxes"
on = "grant"
title = "Wardens in boxes"
when = '''holder.name eq "Wardens" and account.name co "100%" or holder.name eq "O'Neill" or holder.kind eq "team"'''
says = "{holder} is in {account} since {given_at:day}."
remedy = "Look."
[[rule.matches]]
holder.kind = "team"
[[rule.misses]]
holder.kind = "app"
"""


def now_open(small: Small) -> dict[str, int]:
    """How many flags are open, by rule."""
    with small.service.unit(small.itself) as unit:
        found: dict[str, int] = {}
        for rule in unit.db.scalars(select(Flag.rule).where(Flag.state == "open")):
            found[rule] = found.get(rule, 0) + 1
    return found


@pytest.mark.parametrize(
    "wish",
    [
        Wish({"unused": (1, 1, 1, 1), "open_end": (None, None, None, None), "session_age": (0, 0, 0, 0)}),
        Wish(off=["no_end_date", "holder_left"]),
        Wish(weights=Weights(outside=0, staleness=100)),
        Wish(never_together=[("mail.read", "books.pay"), ("mail.read", "mail.share")]),
        Wish(known_publishers=["Somebody"]),
    ],
    ids=["limits", "off", "weights", "pairs", "publishers"],
)
def test_a_preview_of_settings_is_what_they_do(small: Small, wish: Wish) -> None:
    """Counted by one pass over the register, then really set."""
    before = now_open(small)
    with small.service.unit(small.itself) as unit:
        effects = rule_settings.preview(unit, wish).effects
    assert now_open(small) == before
    with small.service.unit(small.itself) as unit:
        rule_settings.change(unit, wish)
    evaluate_flags.evaluate_all(small.service, small.itself.organisation)
    after = now_open(small)
    rules = set(before) | set(after)
    changed = {r: after.get(r, 0) - before.get(r, 0) for r in rules if after.get(r, 0) != before.get(r, 0)}
    assert {e.rule: e.raised - e.cleared for e in effects if e.raised != e.cleared} == changed
    assert all(e.examples for e in effects if e.raised or e.cleared)
    assert effects or wish.known_publishers


def test_settings_that_make_no_sense_are_refused_by_name(small: Small) -> None:
    """And only administrators set them."""
    with pytest.raises(BadInput) as error, small.service.unit(small.itself) as unit:
        rule_settings.change(
            unit, Wish({"colour": (1, 2, 3, 4), "unused": (-1, 2, 3, 4)}, off=["none"], never_together=[("x", "x")])
        )
    assert set(error.value.fields) == {"limits.colour", "limits.unused", "off", "never_together"}
    for act in (lambda unit: rule_settings.change(unit, Wish()), lambda unit: rule_settings.keep(unit, OWN)):
        with pytest.raises(NotAllowed), small.acting("ines") as unit:
            act(unit)


def test_an_own_rule_goes_live_is_replaced_and_dropped(small: Small) -> None:
    """With quotes and percent signs in its filter; its flags come and go with it."""
    with small.service.unit(small.itself) as unit:
        assert rule_settings.check(unit, OWN).effects[0].raised == 1
        rule_settings.keep(unit, OWN)
    evaluate_flags.evaluate_all(small.service, small.itself.organisation)
    assert small.open_flags("wardens_in_boxes") == {"Wardens is in Box since 1 January 2026."}
    grant = small.grant("box|team|wardens|read")
    with small.service.unit(small.itself) as unit:
        unit.db.execute(text("delete from findings"))
        evaluate_flags.evaluate(unit, grants=[grant])
    assert small.open_flags("wardens_in_boxes") == {"Wardens is in Box since 1 January 2026."}
    with pytest.raises(Conflict, match="example 1"), small.service.unit(small.itself) as unit:
        rule_settings.keep(unit, OWN.replace('holder.kind = "team"\n', 'holder.kind = "person"\n'))
    with pytest.raises(BadInput, match="built in"), small.service.unit(small.itself) as unit:
        rule_settings.keep(unit, OWN.replace("wardens_in_boxes", "unused"))
    with small.service.unit(small.itself) as unit:
        rule_settings.drop(unit, "wardens_in_boxes")
    evaluate_flags.evaluate_all(small.service, small.itself.organisation)
    assert small.open_flags("wardens_in_boxes") == set()


def test_everybody_can_read_the_facts_about_themselves_and_no_others(small: Small) -> None:
    """With the rules that look at them, and what those make of it."""
    with small.acting("mara") as unit:
        mine = known_facts.about(unit, None)
    kinds = {entry.subject.kind for entry in mine}
    assert kinds == {"person", "grant", "session"}
    told = {rule.key: rule.found for entry in mine for rule in entry.rules}
    assert told["no_end_date"]
    assert not told["holder_left"]
    with pytest.raises(NotFound), small.acting("owen") as unit:
        known_facts.about(unit, small.person("mara"))
    with small.acting("ines") as unit:
        seen = known_facts.about(unit, small.person("mara"))
    assert {entry.account for entry in seen} == {"Box"}


def test_flags_are_assigned_to_whoever_is_there(small: Small) -> None:
    """By whoever answers for them."""
    with small.acting("ines") as unit:
        ids = list(unit.db.scalars(select(Flag.id).where(Flag.account_id == small.account("box"))))
        assert len(ids) > 3
        rows = manage_flags.assign(unit, ids, small.person("mara"))
    assert {row.assigned_to.name for row in rows} == {"Mara"}
    with pytest.raises(NotFound, match="left"), small.acting("ines") as unit:
        manage_flags.assign(unit, ids, small.person("edda"))
    with pytest.raises((NotFound, NotAllowed)), small.acting("owen") as unit:
        manage_flags.assign(unit, ids, small.person("owen"))


def test_the_weekly_letter_tells_only_what_changed_and_only_once(small: Small) -> None:
    """On Monday mornings as the organisation's clocks show it; not to whoever does not want it."""
    zone = ZoneInfo("Europe/London")
    assert weekly_letter.next_after(datetime(2026, 3, 27, tzinfo=UTC), zone) == datetime(2026, 3, 30, 6, tzinfo=UTC)
    assert weekly_letter.next_after(datetime(2026, 3, 30, 6, tzinfo=UTC), zone) == datetime(2026, 4, 6, 6, tzinfo=UTC)

    def send() -> int:
        with small.service.unit(small.itself) as unit:
            return weekly_letter.send_when_due(unit)

    small.clock.forward(minutes=1)
    assert send() == 0
    small.clock.forward(days=8)
    assert send() == 0
    with small.service.unit(small.itself) as unit:
        unit.db.execute(text("update people set standing = 'left', leaves_at = now() where key = 'mara'"))
        unit.db.execute(text("update people set leaves_at = '2026-03-01' where key = 'mara'"))
    evaluate_flags.evaluate_all(small.service, small.itself.organisation)
    small.clock.forward(days=7)
    with small.service.unit(replace(small.as_("ines"))) as unit:
        weekly_letter.set_wanted(unit, True)
    assert send() == 2
    assert send() == 0
    letters = [(to, subject, body) for to, subject, body in mailed(small.service, small.itself.organisation)]
    assert {to for to, _, _ in letters} == {"ada@example.org", "ines@example.org"}
    assert all("Mara left on 28 February 2026" in body for _, _, body in letters)
    with small.service.unit(small.itself) as unit:
        unit.db.execute(Person.__table__.update().values(wants_digest=False))
        unit.db.execute(Organisation.__table__.update().values(digest_at=small.clock.now - timedelta(days=30)))
    assert send() == 0


def test_what_is_new_and_worse_in_one_week_stands_in_the_letter_once(small: Small) -> None:
    """As new; what was there before and got worse as worse; what came and went not at all."""
    since = small.clock.now
    with small.service.unit(small.itself) as unit:
        flags_then = unit.db.scalars(select(Flag).where(Flag.state == "open").order_by(Flag.id).limit(4)).all()
        fresh, old, passing, gone = flags_then
        for flag, raised in ((fresh, 1), (passing, 1), (old, -1), (gone, -1)):
            flag.raised_at = since + timedelta(days=raised)
        for flag in (fresh, old):
            flag.worse_at = since + timedelta(days=2)
        for flag in (passing, gone):
            flag.state, flag.cleared_at = "cleared", since + timedelta(days=3)
        ids = [flag.id for flag in flags_then]
    small.clock.forward(days=7)
    with small.service.unit(small.itself) as unit:
        found = weekly_letter.changes(unit, Flag.id.in_(ids), since)
        assert [[flag.id for flag in part] for part in (found.raised, found.worse, found.back)] == [
            [ids[0]],
            [ids[1]],
            [],
        ]
        assert found.cleared == 1
        assert found.subject == "Flags this week: 1 new, 1 worse, 1 cleared"


def random_files(dice: random.Random) -> dict[str, str]:
    """A register of some dozens of everything, in which most rules find something."""
    day = lambda back: (datetime(2026, 3, 10, tzinfo=UTC) - timedelta(days=back)).strftime("%Y-%m-%d")  # noqa: E731
    people = [f"p{n}" for n in range(20)]
    standing = [dice.choice(["current", "current", "leaving", "left"]) for _ in people]
    teams = ["t0", "t1", "t2", "t3", "t4"]

    def person(n: int) -> str:
        leaves = {"current": "", "leaving": day(-dice.randrange(1, 40)), "left": day(dice.randrange(1, 200))}[
            standing[n]
        ]
        domain = dice.choice(["example.org", "freemail.example"])
        yes = [dice.choice(["yes", "no"]) for _ in range(2)]
        return f"p{n},P{n},p{n}@{domain},{yes[0]},{standing[n]},{leaves},{yes[1]}"

    def grant() -> tuple[str, str, str]:
        account, level = dice.choice(
            [("box", "read"), ("box", "run"), ("ledger", "pay"), ("rota", "read"), ("r2", "run")]
        )
        kind = dice.choice(["person", "person", "person", "team", "app", "account"])
        holder = {"person": dice.choice(people), "team": dice.choice(teams), "app": "sync", "account": "rota"}[kind]
        return account, f"{kind},{holder}", level

    held = sorted({grant() for _ in range(60)} - {("rota", "account,rota", "read")})
    lines = [
        f"{a},{h},{level},{dice.choice(['', day(-dice.randrange(1, 900))])},{dice.choice(people)},"
        f"{day(dice.randrange(1, 900))},{dice.choice(['', day(dice.randrange(0, 500))])},"
        f"{dice.choice(['', day(dice.randrange(1, 900))])}"
        for a, h, level in held
    ]
    used = {
        f"{a},{h},mail.read,{day(dice.randrange(1, 800))}"
        for a, h, _ in held
        for _ in range(dice.randrange(4))
        if a != "ledger"
    }
    sessions = [
        f"s{n},{dice.choice(['box', 'ledger', 'r2'])},{dice.choice(people)},{dice.choice(['Phone', 'Desk'])},"
        f"192.0.{dice.randrange(4)}.9,{day(dice.randrange(0, 120))}T{dice.randrange(10, 23)}:00:00Z"
        for n in range(40)
    ]
    return {
        "places": "network,place,country,latitude,longitude\n192.0.0.0/24,A,AA,50,0\n192.0.1.0/24,B,AA,50,9\n"
        "192.0.2.0/24,C,CC,-30,120\n",
        "people": "key,name,address,inside,standing,leaves_on,second_factor\n" + "\n".join(map(person, range(20))),
        "teams": "key,name\n" + "\n".join(f"{t},{t}" for t in teams),
        "memberships": "team,member_kind,member\nt0,team,t1\nt1,team,t2\nt2,team,t3\nt3,team,t0\n"
        + "\n".join(sorted({f"{dice.choice(teams)},person,{dice.choice(people)}" for _ in range(25)})),
        "accounts": "key,name,system,sensitivity,owner\nr2,R2,Mail,4,\n",
        "grants": "account,holder_kind,holder,level,until,given_by,given_at,last_used_at,credential_since\n"
        + "\n".join(lines),
        "use": "account,holder_kind,holder,permission,last_used_at\n" + "\n".join(sorted(used)),
        "sessions": "key,account,holder,device,address,started_at\n" + "\n".join(sessions),
    }


@pytest.mark.parametrize("seed", seeds(3))
def test_all_at_once_and_one_by_one_find_the_same_in_random_registers(small: Small, seed: int) -> None:
    """Gathered once for all or beside each, by SQL or by Python: the same findings on the same facts."""
    for kind, written in random_files(random.Random(seed)).items():
        with small.service.unit(small.itself) as unit:
            report = imports.bring(unit, kind, "csv", io.BytesIO(written.encode()), keep_good=False, try_only=False)
        assert report.kept, report.errors[:3]
    with small.service.unit(small.itself) as unit:
        rule_settings.change(unit, Wish(never_together=[("mail.read", "books.pay")]))
    evaluate_flags.evaluate_all(small.service, small.itself.organisation)
    spoken = set()
    with small.service.unit(small.itself) as unit:
        stands = evaluate_flags.ruling(unit)
        for subject, table in SUBJECTS.items():
            assert evaluate_many.differing(unit.db, stands, subject, unit.now) == []
            ids = list(unit.db.scalars(select(table.id)))
            together = evaluate_many.look(unit.db, stands, subject, ids, unit.now, everything=True)
            whole = {seen.id: seen for seen in together}
            for ident in ids:
                around = evaluate_one.AROUND_A_GRANT if subject == "grant" else (subject,)
                seen, *others = evaluate_one.look(unit.db, stands, around, ident, unit.now)
                assert seen is not None
                assert seen.found == seen.before == whole[ident].found
                assert all(other is None or other.found == other.before for other in others)
                (known,) = evaluate_one.look(unit.db, stands, (subject,), ident, unit.now, everything=True)
                facts = facts_of(next(book.facts for book in BOOKS if book.subject == subject))
                assert known is not None
                assert {name: known.facts[name] for name in facts} == {name: whole[ident].facts[name] for name in facts}
                spoken |= {number // ROOM for number in seen.found}
    assert len(spoken) > 20


def test_a_teams_grant_brings_the_flags_of_its_people_in_line(small: Small, monkeypatch: pytest.MonkeyPatch) -> None:
    """At once, for a few; what a team of a great many comes to is left to the worker."""
    woken: list[str] = []
    service = replace(small.service, wake=lambda task, arguments, at: woken.append(task))

    def flagged() -> set[str]:
        return {sentence.split()[0] for sentence in small.open_flags("no_second_factor")}

    # Ines owns the box and Mara the ledger; Owen comes in by what the box is given, and by nothing but the team.
    assert flagged() == {"Ines", "Mara", "Owen"}
    with service.unit(small.itself) as unit:
        unit.db.execute(update(Grant).where(Grant.account_id == small.account("ledger")).values(state="suspended"))
        evaluate_flags.evaluate(unit, people=[small.person("owen")])
    assert flagged() == {"Ines", "Mara"}
    written = b"account,holder_kind,holder,level,given_by,given_at\nledger,team,wardens,pay,ines,2026-03-01\n"
    with service.unit(small.itself) as unit:
        assert imports.bring(unit, "grants", "csv", io.BytesIO(written), keep_good=False, try_only=False).kept
    assert (flagged(), woken) == ({"Ines", "Mara", "Owen"}, [])
    grant = small.grant("ledger|team|wardens|pay")

    def end() -> None:
        with service.unit(small.itself) as unit:
            row = unit.db.get_one(Grant, grant)
            row.state, row.ended_as, row.ended_at = "ended", "revoked", unit.now
            evaluate_flags.evaluate(unit, grants=[grant])

    monkeypatch.setattr(evaluate_flags, "MOST_MEMBERS", 1)
    end()
    assert (flagged(), woken) == ({"Ines", "Mara", "Owen"}, ["evaluate"])
    monkeypatch.setattr(evaluate_flags, "MOST_MEMBERS", 2)
    end()
    assert (flagged(), woken) == ({"Ines", "Mara"}, ["evaluate"])
