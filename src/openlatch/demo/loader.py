"""Load the demo: Hollin Fell Huts, a made-up trust that runs mountain huts, and a small second organisation.

The data files are what a user would bring: they go through the same import. Days in them are written as
``{day+3}`` and count from the day before they are loaded, so that every instant of that day lies in the past.
"""

from __future__ import annotations

import csv
import io
import json
import re
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from uuid import UUID

from sqlalchemy import select

from openlatch.core.files.records import RECORD_KINDS
from openlatch.core.ids import new_id
from openlatch.core.reviews.assignment import Line, Place
from openlatch.core.vocabulary import Acts, FlagState, GrantState, Happening, Reach, Role, Subject, Verdict
from openlatch.demo import offers
from openlatch.errors import BadInput
from openlatch.json_values import JsonObject
from openlatch.service import imports
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.flags import manage as manage_flags
from openlatch.service.identity import authentication
from openlatch.service.partners import links
from openlatch.service.reviews import close_round, decisions, open_round, plans, schedules
from openlatch.service.reviews.plans import Review
from openlatch.service.revocations import execute, prepare, revoke
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.database import transaction
from openlatch.store.tables import Account, Flag, Grant, Item, Organisation, Person, Revocation, Team

DATA = Path(__file__).parent / "data"
PASSWORD = "walk the long ridge"  # noqa: S105  printed at every start: the demo has nothing to hide
TELEMETRY = "Hut telemetry database"
STUBBORN = "Poster wall"

# Who can sign in, with their role. The keys are those of people.csv.
SIGN_INS = (
    ("ines.calder", Role.ADMINISTRATOR, "administrator"),
    ("tobias.renn", Role.MEMBER, "owner of the booking desk mailbox"),
    ("lene.marsh", Role.REVIEWER, "reviewer"),
    ("piet.lagerlund", Role.AUDITOR, "auditor, who sees all and changes nothing"),
    ("fenna.aldous", Role.MEMBER, "delegate, a warden of this season"),
)
NEIGHBOUR = (
    "rhea.tarn@tarnvalley.example.org",
    "Rhea Tarn",
    "administrator of a second organisation, Tarn Valley Boats",
)

AGENCY = (
    "pia.castell@slate-and-fern.example.com",
    "Pia Castell",
    "Slate & Fern",
    "administrator of Slate & Fern, which acts for Hollin Fell",
)


# How many weeks ago the register was begun, and its use read again since.
WEEKS = (8, 5, 2, 0)
# What is only known at the end: its instants would lie ahead before.
PRESENT = ("sessions", "use")


def provider_people() -> dict[str, JsonObject]:
    """Who can sign in at the identity provider: all of the organisation's own, by key, with their claims."""
    with (DATA / "people.csv").open(newline="") as file:
        rows = [row for row in csv.DictReader(file) if row["address"].endswith("@hollinfell.example.org")]
    return {
        row["key"]: {"name": row["name"], "email": row["address"], "email_verified": True}
        for row in rows
        if row["standing"] == "current"
    }


def telemetry_plan() -> JsonObject:
    """What is in the hut telemetry database."""
    plan: JsonObject = json.loads((DATA / "telemetry.json").read_text())
    return plan


def systems_plan(day: datetime) -> JsonObject:
    """The content of the other systems, with days counted from ``day``; the keys of a host have their days in their own
    format.
    """
    text = (DATA / "systems.json").read_text()
    plan: JsonObject = json.loads(text)
    opened = json.loads((DATA / "open.json").read_text())
    return {**plan, "cloud": json.loads(_dated(json.dumps({**plan["cloud"], **opened}), day))}


def base_day(now: datetime) -> datetime:
    """The day from which the days in the files are counted."""
    return datetime(now.year, now.month, now.day, tzinfo=UTC) - timedelta(days=1)


def is_loaded(service: Service) -> bool:
    """Whether an organisation exists."""
    with transaction(service.engine, None) as db:
        return db.scalars(select(Organisation.id)).first() is not None


def earlier(service: Service, weeks: int) -> Service:
    """The same service with a clock some weeks behind, so that the journal has a past."""
    return replace(service, clock=lambda: service.clock() - timedelta(weeks=weeks))


def load(service: Service) -> UUID:
    """Load the organisations; returns the id of Hollin Fell Huts, whose register was begun some weeks ago."""
    itself = _organisation(service, "Hollin Fell Huts", "hollin-fell")
    day = base_day(service.clock())
    for weeks in WEEKS:
        _bring_all(earlier(service, weeks), itself, day, weeks)
    with service.unit(itself) as unit:
        for key, role, _ in SIGN_INS:
            person = unit.db.scalars(select(Person).where(Person.key == key)).one()
            assert person.address is not None
            authentication.make_sign_in(unit.db, itself.organisation, person.id, person.address, PASSWORD, role)
    _load_neighbour(service)
    _load_agency(service)
    return itself.organisation


def _organisation(service: Service, name: str, slug: str) -> Viewer:
    viewer = Viewer.itself(new_id())
    with transaction(service.engine, viewer.organisation) as db:
        db.add(Organisation(id=viewer.organisation, name=name, slug=slug, time_zone="Europe/London"))
    return viewer


def _dated(text: str, day: datetime) -> str:
    """Text with its ``{day+N}`` replaced by dates."""
    return re.sub(r"\{day([+-]\d+)\}", lambda found: (day + timedelta(days=int(found[1]))).strftime("%Y-%m-%d"), text)


def _bring_all(service: Service, viewer: Viewer, day: datetime, weeks: int) -> None:
    """Bring what was known some weeks ago: at first everything, then how grants were used since. Then raise flags."""
    kinds = {kind for kind in RECORD_KINDS if kind not in PRESENT} if weeks == WEEKS[0] else {"grants"}
    for kind in RECORD_KINDS:
        if kind not in kinds | (set() if weeks else set(PRESENT)):
            continue
        for path in sorted(DATA.glob(f"{kind}.*")):
            form = path.suffix.removeprefix(".")
            written = path.read_text()
            if kind == "grants" and weeks:
                if form == "jsonl":
                    continue
                written = _as_known(written, weeks * 7)
            _bring(service, viewer, kind, form, path, _dated(written, day))
    evaluate_flags.evaluate_all(service, viewer.organisation)


def _as_known(written: str, days_ago: int) -> str:
    """The grants that had been given so many days ago, last used before then."""
    rows = list(csv.DictReader(io.StringIO(written)))
    held = io.StringIO()
    writer = csv.DictWriter(held, rows[0].keys())
    writer.writeheader()
    for row in rows:
        if _days(row["given_at"]) <= -days_ago:
            used = row["last_used_at"]
            if used and _days(used) > -days_ago - 1:
                row["last_used_at"] = used.replace(f"{{day{_days(used):+d}}}", f"{{day{-days_ago - 2:+d}}}")
            writer.writerow(row)
    return held.getvalue()


def _days(dated: str) -> int:
    """The number of days in a date as files write it; 0 where there is none."""
    found = re.match(r"\{day([+-]\d+)\}", dated)
    return int(found[1]) if found else 0


def _bring(service: Service, viewer: Viewer, kind: str, form: str, path: Path, written: str) -> None:
    with service.unit(viewer) as unit:
        report = imports.bring(unit, kind, form, io.BytesIO(written.encode()), keep_good=False, try_only=False)
    if not report.kept:
        raise BadInput(f"{path.name} has bad lines: {report.errors[:5]}")


def _load_neighbour(service: Service) -> None:
    itself = _organisation(service, "Tarn Valley Boats", "tarn-valley")
    address, name, _ = NEIGHBOUR
    files = {
        "people": f"key,name,address,inside\nrhea,{name},{address},yes\n"
        "olaf,Olaf Birk,olaf@tarnvalley.example.org,yes\n",
        "accounts": "key,name,system,sensitivity,owner\npier,Pier bookings,Booking service,2,rhea\n",
        "levels": "system,key,name,sentence,permissions\n"
        "Booking service,book,Book boats,Can book boats.,boats.book|Book boats|operate\n",
        "grants": "account,holder,level,given_by\npier,olaf,book,rhea\n",
    }
    for kind, written in files.items():
        with service.unit(itself) as unit:
            imports.bring(unit, kind, "csv", io.BytesIO(written.encode()), keep_good=False, try_only=False)
    with service.unit(itself) as unit:
        person = unit.db.scalars(select(Person).where(Person.key == "rhea")).one()
        authentication.make_sign_in(unit.db, itself.organisation, person.id, address, PASSWORD, Role.ADMINISTRATOR)


def administrator(service: Service, organisation: UUID) -> Viewer:
    """The demo's administrator."""
    with service.unit(Viewer.itself(organisation)) as unit:
        person = unit.db.scalars(select(Person).where(Person.key == SIGN_INS[0][0])).one()
        return Viewer(organisation, person.name, person.id, None, administrator=True)


def play(service: Service, organisation: UUID) -> None:
    """Create history: a closed round, an open one, a manual revocation, an accepted flag."""
    offers.play(service, organisation)
    viewer = administrator(service, organisation)
    with earlier(service, WEEKS[1]).unit(viewer) as unit:
        closed = _close_one_round(unit)
    close_round.carry_on(service, Viewer.itself(organisation), closed)
    with service.unit(viewer) as unit:
        _open_one_round(unit)
        _make_schedules(unit)
    with service.unit(viewer) as unit:
        grant = _grant(unit, "old-webshop|app|old-exporter|look")
        revoke.start(unit, prepare.Wish(grants=(grant,)), "Nobody remembers what it is for.")
        _accept_one_flag(unit)
    _end_in_a_stubborn_place(service, viewer)
    _link_the_agency(service, viewer)


def _load_agency(service: Service) -> None:
    """The newsletter agency, which uses the service itself."""
    address, name, organisation, _ = AGENCY
    itself = _organisation(service, organisation, "slate-and-fern")
    people = "key,name,address,inside\n" + "".join(
        f"{one},{words},{one}@slate-and-fern.example.com,yes\n"
        for one, words in (("pia.castell", name), ("leo.fairburn", "Leo Fairburn"), ("juno.ashby", "Juno Ashby"))
    )
    with service.unit(itself) as unit:
        imports.bring(unit, "people", "csv", io.BytesIO(people.encode()), keep_good=False, try_only=False)
    with service.unit(itself) as unit:
        for person in unit.db.scalars(select(Person)).all():
            assert person.address is not None
            role = Role.ADMINISTRATOR if person.address == address else Role.MEMBER
            authentication.make_sign_in(unit.db, itself.organisation, person.id, person.address, PASSWORD, role)


def _link_the_agency(service: Service, viewer: Viewer) -> None:
    """Link the agency: its head is confirmed, one of its people waits for confirmation, and one is new."""
    with transaction(service.engine, None) as db:
        agency = db.scalars(select(Organisation.id).where(Organisation.slug == "slate-and-fern")).one()
    with service.unit(Viewer.itself(agency)) as unit:
        head = unit.db.scalars(select(Person).where(Person.address == AGENCY[0])).one()
        people = list(unit.db.scalars(select(Person.id)))
    with service.unit(Viewer(agency, head.name, head.id, administrator=True)) as unit:
        found = links.offer(unit, "hollin-fell", "We write the newsletter of your huts, as before.", people)
    with service.unit(viewer) as unit:
        team = unit.db.scalars(select(Team.id).where(Team.key == "slate-and-fern")).one()
        links.answer(unit, found.id, True, team)
        links.confirm_same(unit, found.id, _person(unit, "pia.castell"))


def _end_in_a_stubborn_place(service: Service, viewer: Viewer) -> None:
    """The design cloud reports success, and the next read shows that nothing changed."""
    with service.unit(viewer) as unit:
        found = unit.db.scalars(
            select(Grant.id)
            .join(Account, Account.id == Grant.account_id)
            .join(Person, Person.id == Grant.person_id)
            .where(Account.name == STUBBORN, Person.name == "Printing house", Grant.state == GrantState.ACTIVE)
        ).first()
        if found is None:
            return
        ident = revoke.start(unit, prepare.Wish(grants=(found,)), "The posters are printed.")
    execute.carry_out(service, viewer.organisation, ident)


def _person(unit: Unit, key: str) -> UUID:
    return unit.db.scalars(select(Person.id).where(Person.key == key)).one()


def _grant(unit: Unit, key: str) -> UUID:
    return unit.db.scalars(select(Grant.id).where(Grant.key == key)).one()


def _close_one_round(unit: Unit) -> UUID:
    lene = plans.named(_person(unit, "lene.marsh"))
    review = Review(
        "Old web shop, after its closing", 'account.name eq "Old web shop"', days=10, reviewers=lene, acts=Acts.AT_CLOSE
    )
    ident = open_round.open_round(unit, review)
    items = unit.db.scalars(select(Item).where(Item.round_id == ident).order_by(Item.position)).all()
    for item in items[:-1]:
        decision = decisions.Decision(Verdict.KEEP, "Needed until the accounts for last year are done.")
        decisions.decide(_as_reviewer(unit, item), ident, item.id, decision)
    # The last item was left undecided.
    close_round.close(unit, ident, dict.fromkeys((reach.word for reach in Reach), "keep"))
    return ident


def _as_reviewer(unit: Unit, item: Item) -> Unit:
    """The same transaction, acting as the item's reviewer."""
    person = unit.db.get_one(Person, item.reviewer_id)
    return replace(unit, viewer=Viewer(unit.viewer.organisation, person.name, person.id), _sight=None)


def _open_one_round(unit: Unit) -> None:
    review = Review(
        "Sensitive accounts, autumn",
        'account.sensitivity ge 4 and not (holder.kind eq "team")',
        covers=(Subject.GRANT, Subject.LINK),
        days=21,
        reviewers=plans.named(_person(unit, "lene.marsh")),
        undecided={"observe": "keep", "operate": "keep", "spend": "suspend", "steward": "suspend"},
        reminders=(7, 1),
    )
    ident = open_round.open_round(unit, review)
    items = unit.db.scalars(select(Item).where(Item.round_id == ident).order_by(Item.position)).all()
    for item in [item for item in items if not item.flagged][:4]:
        decision = decisions.Decision(Verdict.KEEP, "Used, and needed.")
        decisions.decide(_as_reviewer(unit, item), ident, item.id, decision)


def _make_schedules(unit: Unit) -> None:
    monday = unit.now.replace(tzinfo=None) + timedelta(days=7 - unit.now.weekday())
    sensitive = Review(
        "Sensitive accounts",
        "account.sensitivity ge 3",
        tuple(Subject),
        reviewers=(Place(Line.OWNER), Place(Line.MANAGER)),
        undecided={"observe": "keep", "operate": "keep", "spend": "suspend", "steward": "suspend"},
        second_from=4,
        reminders=(7, 1),
        closes_after=3,
    )
    schedules.keep(unit, schedules.Plan(sensitive, "quarter", monday.replace(hour=9, minute=0)))
    leaving = Review(
        "Whoever leaves or moves",
        "",
        (Subject.GRANT, Subject.SESSION, Subject.OWNERSHIP),
        days=5,
        reviewers=(Place(Line.MANAGER),),
        reminders=(1,),
    )
    events = (Happening.PERSON_LEAVES, Happening.PERSON_MOVES)
    schedules.keep(unit, schedules.Plan(leaving, events=events))


def _accept_one_flag(unit: Unit) -> None:
    flag = unit.db.scalars(
        select(Flag)
        .join(Account, Account.id == Flag.account_id)
        .where(Flag.rule == "no_end_date", Account.key == "member-directory", Flag.state == FlagState.OPEN)
        .order_by(Flag.id)
    ).first()
    if flag is not None:
        until = unit.now + timedelta(days=60)
        manage_flags.accept(unit, [flag.id], "The directory is the membership secretary's daily work.", until)


def has_played(service: Service, organisation: UUID) -> bool:
    """Whether ``play`` has run."""
    with service.unit(Viewer.itself(organisation)) as unit:
        return unit.db.scalars(select(Revocation.id)).first() is not None
