"""The use cases on a small register: who sees and may what, the life of a flag, rounds, today, sign-ins."""

from __future__ import annotations

import re
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import UUID

import psycopg
import pyotp
import pytest
from sqlalchemy import event, func, select, text

from openlatch import schemas
from openlatch.api.routes import journal
from openlatch.api.routes import journal as journal_routes
from openlatch.errors import BadInput, NotAllowed, NotFound, NotSignedIn, TooLarge, TooMany
from openlatch.runtime.cluster import Cluster
from openlatch.service import today
from openlatch.service.access import charts, queries
from openlatch.service.accounts import page as page_of_account
from openlatch.service.accounts.page import account_page
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.flags import known_facts
from openlatch.service.flags import manage as manage_flags
from openlatch.service.identity import authentication, second_factor
from openlatch.service.identity.authentication import Factor
from openlatch.service.lists import register
from openlatch.service.people.page import person_page
from openlatch.service.revocations import prepare, revoke
from openlatch.store.flags import evaluate_many
from openlatch.store.lists.engine import ListQuery
from openlatch.store.migrate import APP_ROLE
from openlatch.store.tables import (
    Account,
    Flag,
    Grant,
    IdempotencyKey,
    JournalEntry,
    Notice,
    Offer,
    Person,
    Session,
    SignInAttempt,
    Term,
    WebSession,
)
from openlatch.worker import tasks
from tests.service.conftest import Small

SUBJECTS = {"grant": Grant, "session": Session, "account": Account, "person": Person, "offer": Offer}


def test_each_viewer_sees_what_is_theirs(small: Small) -> None:
    """Owners their accounts and who reaches them, others their own access, nobody more."""
    assert small.names(small.as_("ines"), "accounts") == {"Box", "Ledger"}
    assert small.names(small.as_("owen"), "accounts") == {"Box", "Ledger"}
    assert small.names(small.as_("owen"), "people") == {"Owen"}
    assert small.names(small.as_("ines"), "people") == {"Ines", "Mara", "Owen", "Edda"}
    assert small.names(small.as_("owen"), "grants") == {
        "Wardens on Box",
        "Box on Ledger",
        "Owen on Rota",
        "Owen on Box",
    }
    assert small.names(small.as_("ines"), "grants", filter='holder.kind eq "person"') == {
        "Mara on Box",
        "Edda on Box",
        "Owen on Box",
    }
    assert small.names(small.as_("mara"), "sessions") == {"Mara on Box", "Mara on Ledger"}
    assert small.names(small.as_("owen"), "sessions") == set()
    assert small.names(small.as_("edda"), "accounts") == {"Rota"}


# With a million of each, reading all of one of these tables is what a page must never do.
LARGE = ["grants", "terms", "sessions", "flags", "journal", "items"]


def read_whole(plan: dict[str, Any], limited: bool = False) -> Iterator[str]:
    """The large tables that a plan reads from end to end, but for a page that stops where it is full."""
    if plan.get("One-Time Filter") == "false":
        return
    limited = plan.get("Parent Relationship") != "SubPlan" and (limited or plan["Node Type"] == "Limit")
    led = re.findall(r"\b(\w+) (?:=|>|<|IS)", plan.get("Index Cond", "") + plan.get("Recheck Cond", ""))
    # All of an organisation, or all in one state, is all there is.
    if plan.get("Relation Name") in LARGE and not limited and set(led) <= {"organisation_id", "state"}:
        yield f"{plan['Node Type']} on {plan['Relation Name']}"
    for part in plan.get("Plans", ()):
        yield from read_whole(part, limited)


@pytest.mark.parametrize("who", ["", "ines", "owen"], ids=["an administrator", "an owner", "a delegate"])
def test_no_page_of_a_list_reads_a_whole_table(small: Small, cluster: Cluster, database: str, who: str) -> None:
    """Asked for again without indexes over all of an organisation: another has to lead to what is asked for."""
    asked: list[tuple[str, Any]] = []
    with small.service.unit(small.as_(who) if who else small.itself) as unit:
        event.listen(unit.db.connection(), "before_cursor_execute", lambda *call: asked.append((call[2], call[3])))
        for name in ("accounts", "people", "teams", "apps", "grants", "sessions", "flags", "offers", "journal"):
            register.page(unit, name, ListQuery())
        if who:
            known_facts.about(unit, None)
    with psycopg.connect(cluster.url(database)) as db:
        for table, index, constraint in db.execute(
            "select i.indrelid::regclass::text, i.indexrelid::regclass::text, c.conname from pg_index i "
            "join pg_attribute a on a.attrelid = i.indrelid and a.attnum = i.indkey[0] "
            "join pg_attribute b on b.attrelid = i.indrelid and b.attnum = i.indkey[1] "
            "left join pg_constraint c on c.conindid = i.indexrelid and c.contype in ('p', 'u') "
            "where i.indrelid::regclass::text = any(%s) and a.attname = 'organisation_id' "
            "and b.attname not like '%%_id'",
            [LARGE],
        ).fetchall():
            db.execute(f"alter table {table} drop constraint {constraint}" if constraint else f"drop index {index}")
        db.execute("set local enable_seqscan = off")
        db.execute(f"set local role {APP_ROLE}")
        db.execute("select set_config('openlatch.organisation', %s, true)", [str(small.itself.organisation)])
        for statement, values in asked:
            if statement.startswith("SELECT"):
                ((plan,),) = db.execute(f"explain (format json) {statement}", values).fetchone() or ()
                assert list(read_whole(plan["Plan"])) == [], statement
        db.rollback()
    assert len(asked) > 8


def test_an_account_page_shows_every_path_and_what_is_not_in_force(small: Small) -> None:
    """Teams resolved to people, those who have left marked, offers and suspensions apart."""
    box = small.as_("ines")
    with small.service.unit(box) as unit:
        ident = unit.db.execute(text("select id from accounts where key = 'box'")).scalar_one()
        page = account_page(unit, ident)
    shown = {(p.holder.name, p.level, p.left) for p in page.paths}
    assert shown == {
        ("Ines", "Owner", False),
        ("Mara", "Run", False),
        ("Mara", "Read", False),
        ("Owen", "Read", False),
        ("Edda", "Read", True),
        ("Sync", "Read", False),
    }
    assert [(g.holder.name, g.state) for g in page.not_in_force] == [("Owen", "pending")]
    with small.service.unit(small.as_("owen")) as unit:
        mine = account_page(unit, ident)
    assert {p.holder.name for p in mine.paths} == {"Owen"}
    assert not mine.answers_for
    with pytest.raises(NotFound), small.service.unit(small.as_("edda")) as unit:
        queries.who_can(unit, small.as_("owen").person or UUID(int=0), ident, queries.Question())


def test_an_account_page_with_very_many_paths_has_the_first_and_how_many_there_are(
    small: Small, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What is left out of it is in force all the same; and access can be asked for in part."""
    box = small.account("box")
    with small.service.unit(small.itself) as unit:
        whole = account_page(unit, box)
        monkeypatch.setattr(page_of_account, "MOST_PATHS", 1)
        page = account_page(unit, box)
        everyone, few = (queries.everyone(unit, box, queries.Question(limit=most)) for most in (None, 2))
    assert whole.path_count == len(whole.paths) > 2
    assert whole.app_count == len({path.holder.id for path in whole.paths if path.holder.kind == "app"})
    assert page == whole.model_copy(update={"paths": whole.paths[:1]})
    assert few == everyone.model_copy(update={"paths": everyone.paths[:2]})
    assert few.count == len(everyone.paths) > 2


def test_the_calendar_of_ends_counts_what_it_does_not_name(small: Small, monkeypatch: pytest.MonkeyPatch) -> None:
    """In the organisation's time zone: what ends with the first instant of a day belongs to the day before."""
    with small.service.unit(small.itself) as unit:
        unit.db.execute(text("update organisations set time_zone = 'Europe/Berlin'"))
        terms = list(
            unit.db.scalars(select(Term).join(Grant, Grant.id == Term.grant_id).where(Grant.state == "active"))
        )
        for n, term in enumerate(terms):
            term.until = datetime(2026, 4, 1, 22, tzinfo=UTC) + timedelta(microseconds=n == len(terms) - 1)
    assert len(terms) > 3
    for most in (8, 2):
        monkeypatch.setattr(charts, "MOST_NAMES", most)
        with small.service.unit(small.itself) as unit:
            days = {row.day: row for row in charts.ends(unit, unit.now, 3).days}
        assert days["2026-04-01"].grants == len(terms) - 1
        assert days["2026-04-02"].grants == 1
        assert len(days["2026-04-01"].names) == min(most, len(terms) - 1)


def test_a_person_page_follows_accounts_that_are_holders(small: Small) -> None:
    """Whoever acts in Box pays from Ledger; an owner of another account does not learn of it."""
    mara = small.as_("mara")
    assert mara.person is not None
    with small.service.unit(small.itself) as unit:
        paths = person_page(unit, mara.person).paths
    through = [p.words for p in paths if p.account.name == "Ledger" and not p.owns]
    assert "Mara holds “Run” on Box, Box holds “Pay” on Ledger" in through
    with small.service.unit(small.as_("ines")) as unit:
        seen = person_page(unit, mara.person).paths
    assert {p.account.name for p in seen} == {"Box"}


@pytest.mark.parametrize(("who", "refusal"), [("mara", NotAllowed), ("owen", NotFound), ("edda", NotFound)])
def test_ending_access_is_for_whoever_answers_for_the_account(small: Small, who: str, refusal: type[Exception]) -> None:
    """Told apart only for those who can see the access itself."""
    wish = prepare.Wish(grants=(small.grant("box|person|mara|run"),))
    for call in (revoke.preview, lambda u, w: revoke.start(u, w, "Because.")):
        with pytest.raises(refusal), small.service.unit(small.as_(who)) as unit:
            call(unit, wish)
    with small.service.unit(small.as_("ines")) as unit:
        shown = revoke.preview(unit, wish)
    (mara,) = [c for c in shown.changes if c.account.name == "Box"]
    assert [r.sentence for r in mara.ends] == ["Let others in"]
    assert [r.words for r in mara.remains] == ["Mara belongs to Wardens, Wardens holds “Read” on Box"]
    assert len(shown.sessions) == 1


def test_a_flag_is_raised_kept_accepted_reopened_and_cleared(small: Small) -> None:
    """The same facts give the same flag; its state outlives an evaluation; time opens it again."""
    (sentence,) = small.open_flags("holder_left")
    assert sentence.startswith("Edda left on 31 January 2026")
    before = _ids(small)
    evaluate_flags.evaluate_all(small.service, small.itself.organisation)
    assert _ids(small) == before
    with small.service.unit(small.as_("ines")) as unit:
        ident = unit.db.scalars(select(Flag.id).where(Flag.rule == "holder_left")).one()
        with pytest.raises(BadInput, match="needs a reason"):
            manage_flags.accept(unit, [ident], " ", small.clock.now + timedelta(days=9))
        with pytest.raises(BadInput, match="has passed"):
            manage_flags.accept(unit, [ident], "Known.", small.clock.now)
        manage_flags.accept(unit, [ident], "Hands over until Friday.", small.clock.now + timedelta(days=5))
    evaluate_flags.evaluate_all(small.service, small.itself.organisation)
    assert small.open_flags("holder_left") == set()
    small.clock.forward(days=6)
    evaluate_flags.evaluate_all(small.service, small.itself.organisation)
    assert small.open_flags("holder_left") == {sentence}
    with small.service.unit(small.itself) as unit:
        unit.db.execute(text("update people set standing = 'current', leaves_at = null where key = 'edda'"))
    evaluate_flags.evaluate_all(small.service, small.itself.organisation)
    assert small.open_flags("holder_left") == set()
    with small.service.unit(small.itself) as unit:
        actions = unit.db.scalars(select(JournalEntry.action).where(JournalEntry.subject_kind == "flag")).all()
    assert {"flag.raised", "flag.accepted", "flag.reopened", "flag.cleared"} <= set(actions)


def _ids(small: Small) -> set[UUID]:
    with small.service.unit(small.itself) as unit:
        return set(unit.db.scalars(select(Flag.id).where(Flag.state != "cleared")))


def test_bulk_and_single_evaluation_raise_the_same(small: Small) -> None:
    """One definition of each rule, whichever way it is carried out; and nothing is found twice."""
    bulk = small.open_flags()
    assert len(bulk) > 12
    with small.service.unit(small.itself) as unit:
        for subject, table in SUBJECTS.items():
            assert evaluate_many.differing(unit.db, evaluate_flags.ruling(unit), subject, unit.now) == []
            ids = unit.db.scalars(select(table.id)).all()
            for seen in evaluate_many.look(
                unit.db, evaluate_flags.ruling(unit), subject, ids, unit.now, everything=True
            ):
                assert seen.found == seen.before
        unit.db.execute(text("delete from flags"))
        unit.db.execute(text("delete from findings"))
        for ident in unit.db.scalars(select(Grant.id)).all():
            evaluate_flags.evaluate(unit, grants=[ident])
        rest = {name: list(unit.db.scalars(select(SUBJECTS[name].id))) for name in ("session", "account", "person")}
        evaluate_flags.evaluate(unit, sessions=rest["session"], accounts=rest["account"], people=rest["person"])
    assert small.open_flags() == bulk


def test_an_accepted_flag_that_gets_worse_is_open_again(small: Small) -> None:
    """What was accepted was the severity of that day."""
    with small.service.unit(small.as_("ines")) as unit:
        wanted = select(Flag).where(Flag.rule == "holder_left")
        flag = unit.db.scalars(wanted).one()
        before = flag.severity
        manage_flags.accept(unit, [flag.id], "Hands over.", small.clock.now + timedelta(days=50))
    with small.service.unit(small.itself) as unit:
        unit.db.execute(text("update accounts set sensitivity = 4 where key = 'box'"))
        unit.db.execute(text("update people set inside = false where key = 'edda'"))
    evaluate_flags.evaluate_all(small.service, small.itself.organisation)
    with small.service.unit(small.itself) as unit:
        flag = unit.db.scalars(wanted).one()
        assert (flag.state, flag.severity > before, flag.worse_at) == ("open", True, small.clock.now)


def test_today_counts_what_the_viewer_may_see(small: Small) -> None:
    """An owner's today is not the administrator's."""
    with small.service.unit(small.itself) as unit:
        whole = today.page(unit)
    with small.service.unit(small.as_("owen")) as unit:
        mine = today.page(unit)
    assert whole.counts["accounts"] == 3
    assert whole.counts["grants"] == 6
    assert sum(whole.flags.by_severity.values()) == len(small.open_flags())
    assert mine.counts["accounts"] == 2
    assert mine.counts["systems"] == 0
    assert sum(mine.flags.by_severity.values()) < len(small.open_flags())
    assert len(whole.ends) == 12


def tries(small: Small, origin: str, password: str = "wrong", code: str = "", **more: str) -> str:
    """What comes of one try to sign in as Ada."""
    try:
        authentication.check_password(small.service, "ada@example.org", password, origin, Factor(code), **more)
    except (NotSignedIn, TooMany) as error:
        return type(error).__name__
    return "in"


def test_whoever_guesses_is_slowed_down_and_nobody_else_is(small: Small) -> None:
    """The right person gets in from elsewhere, and on a device of theirs from everywhere; and is told."""
    who = authentication.check_password(small.service, "ada@example.org", "a long password", "198.51.100.7")
    device = authentication.remember_device(small.service, who)
    assert [tries(small, "203.0.113.9") for _ in range(11)] == ["NotSignedIn"] * 10 + ["TooMany"]
    assert tries(small, "203.0.113.9", "a long password") == "TooMany"
    assert tries(small, "198.51.100.7", "a long password") == "in"
    assert tries(small, "203.0.113.9", "a long password", device=device) == "in"
    assert tries(small, "203.0.113.9", "a long password", device=f"{device[:-1]}x") == "TooMany"
    with small.service.unit(small.itself) as unit:
        notices = unit.db.scalars(select(Notice).where(Notice.kind == "sign_in_tried")).all()
        assert [(notice.person_id, "203.0.113.9" in notice.sentence) for notice in notices] == [(who.person, True)]
    # It waits for seconds and not for a quarter of an hour; a gap that is over is one more try.
    small.clock.forward(seconds=2)
    assert tries(small, "203.0.113.9", "a long password") == "in"
    # From everywhere at once the address is slowed down, too, and its own device is not.
    found = [tries(small, f"192.0.2.{place}") for place in range(120)]
    assert found.count("NotSignedIn") <= 100
    assert tries(small, "192.0.2.200", "a long password", device=device) == "in"


def test_many_tries_at_once_do_not_pass_the_limit(small: Small) -> None:
    """Each is counted before it is answered."""
    with ThreadPoolExecutor(12) as pool:
        found = list(pool.map(lambda _: tries(small, "203.0.113.9"), range(25)))
    assert found.count("NotSignedIn") == 10
    assert found.count("TooMany") == 15


def test_a_second_factor_is_let_through_and_can_not_be_guessed(small: Small) -> None:
    """Whoever has the code does not wait for what others try; codes are counted as well."""
    who = authentication.check_password(small.service, "ada@example.org", "a long password", "198.51.100.7")
    opened = authentication.open_session(small.service, who, "Firefox", "198.51.100.7")
    viewer = authentication.viewer_of_session(small.service, opened.token, None)
    with small.service.unit(viewer) as unit:
        totp = pyotp.TOTP(second_factor.begin(unit)["secret"])
        second_factor.confirm(unit, totp.at(small.clock()))
    for _ in range(12):
        tries(small, "203.0.113.9")
    assert tries(small, "203.0.113.9", "a long password") == "TooMany"
    assert tries(small, "203.0.113.9", "wrong", code=totp.at(int(small.clock().timestamp()) + 30)) == "TooMany"
    assert tries(small, "203.0.113.9", "a long password", code=totp.at(int(small.clock().timestamp()) + 30)) == "in"
    small.clock.forward(minutes=2)
    guesses = [tries(small, f"192.0.2.{place}", "a long password", code="000000") for place in range(20)]
    assert guesses.count("NotSignedIn") == 10


def test_a_code_for_one_organisation_opens_no_door_at_another(small: Small) -> None:
    """Whoever has to wait is let through by a second factor at the same sign-in, and by nothing else."""
    authentication.make_organisation(small.service, "Other", "other", "UTC", "Ada", "ada@example.org", "three lakes up")
    who = authentication.check_password(small.service, "ada@example.org", "three lakes up", "198.51.100.7")
    opened = authentication.open_session(small.service, who, "Firefox", "198.51.100.7")
    with small.service.unit(authentication.viewer_of_session(small.service, opened.token, None)) as unit:
        totp = pyotp.TOTP(second_factor.begin(unit)["secret"])
        second_factor.confirm(unit, totp.at(small.clock()))
    for _ in range(12):
        tries(small, "203.0.113.9")
    assert tries(small, "203.0.113.9", "a long password", code="000000") == "TooMany"
    assert tries(small, "203.0.113.9", "three lakes up", code=totp.at(int(small.clock().timestamp()) + 30)) == "in"


def test_signing_in_counts_tries_and_closes_with_the_person(small: Small) -> None:
    """Also for a token made before; and what is old is thrown away."""
    ada = "ada@example.org"
    who = authentication.check_password(small.service, ada.upper(), "a long password", "198.51.100.7")
    assert who.administrator
    opened = authentication.open_session(small.service, who, "Firefox", "198.51.100.7")
    assert authentication.viewer_of_session(small.service, opened.token, None).person == who.person
    for _ in range(10):
        with pytest.raises(NotSignedIn):
            authentication.check_password(small.service, ada, "wrong", "198.51.100.7")
    with pytest.raises(TooMany, match="Too many"):
        authentication.check_password(small.service, ada, "a long password", "198.51.100.7")
    small.clock.forward(minutes=16)
    authentication.check_password(small.service, ada, "a long password", "198.51.100.7")
    with small.service.unit(small.itself) as unit:
        unit.db.execute(text("update people set standing = 'left' where name = 'Ada Admin'"))
    with pytest.raises(NotAllowed, match="has left"):
        authentication.viewer_of_session(small.service, opened.token, None)
    small.clock.forward(days=2)
    with pytest.raises(NotSignedIn):
        authentication.viewer_of_session(small.service, opened.token, None)
    tasks.tidy(small.service)
    with small.service.unit(small.itself) as unit:
        for table in (WebSession, SignInAttempt, IdempotencyKey):
            assert unit.db.scalar(select(func.count()).select_from(table)) == 0


def test_a_journal_that_is_too_long_for_one_call_is_verified_elsewhere(
    small: Small, monkeypatch: pytest.MonkeyPatch
) -> None:
    """And the answer says how."""
    with small.service.unit(small.itself) as unit:
        assert journal.verify_journal(unit, schemas.VerifyOptions()).sound
        monkeypatch.setattr(journal_routes, "MOST_VERIFIED", 3)
        with pytest.raises(TooLarge, match="more than one call has time for"):
            journal.verify_journal(unit, schemas.VerifyOptions())
