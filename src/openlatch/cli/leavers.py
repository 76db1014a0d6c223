"""Where systems depart from the register, and people who leave."""

from __future__ import annotations

import time
from uuid import UUID

import click
from rich.text import Text

from openlatch import schemas
from openlatch.cli import session
from openlatch.cli.consent import consent_options, go_on, reason_option
from openlatch.cli.output import (
    Column,
    Word,
    end_day,
    err,
    moment,
    out,
    output_option,
    proof,
    short,
    show_one,
    show_rows,
    table_options,
)
from openlatch.cli.revocations import WAIT_SECONDS, write_preview
from openlatch.client import Client
from openlatch.core.revocations.proof import in_words
from openlatch.json_values import JsonObject
from openlatch.languages.terminal import say

DRIFT: list[Column] = [
    ("ID", lambda r: short(r.id)),
    ("Drift", lambda r: _drift(r)),
    ("What", lambda r: say(f"{r.holder.name} on {r.account.name} ({r.system.name})")),
    ("Recorded", lambda r: r.level if r.recorded else None),
    ("In the system", lambda r: r.shown_level or (r.level if not r.missing_since else None)),
]
DOUBTS: list[Column] = [
    ("ID", lambda r: short(r.id)),
    ("Login", lambda r: r.login),
    ("System", lambda r: r.system.name),
    ("Called", lambda r: r.called),
    ("May be", lambda r: "; ".join(say(f"{one.name} (by {one.by})") for one in r.candidates)),
    ("Grants", lambda r: r.grants),
]
LEFT: list[Column] = [
    ("System", lambda r: r.system),
    ("What", lambda r: r.what),
    ("Ended", lambda r: moment(r.at) if r.ended else None),
    ("Proof", lambda r: proof(r.proof, r.proved_by)),
    ("In which words", lambda r: r.answer),
]


# What lists call access that a system gives otherwise than recorded.
_DIFFERENT = "changed"


def _drift(row: schemas.GrantRow) -> Word:
    until = row.drift_accepted_until
    word = "different" if row.drift == _DIFFERENT else str(row.drift)
    return Word(word, f"accepted until {end_day(until)}" if until else None)


class _Kind(click.Choice[str]):
    """Kinds of drift; the word of the last release is taken, too."""

    def convert(self, value: str, param: click.Parameter | None, ctx: click.Context | None) -> str:
        """The kind that is meant."""
        return super().convert("different" if value == _DIFFERENT else value, param, ctx)


_KIND = _Kind(["unrecorded", "missing", "different"])


@click.group()
def drift() -> None:
    """Where systems depart from the register."""


@drift.command("list")
@click.option("--system", "name", default=None, help="One system only.")
@click.option("--kind", type=_KIND, default=None, help="One kind only.")
@table_options
def drift_list(name: str | None, kind: str | None, output: str) -> None:
    """Access that nobody recorded, that a system lacks, or that is different there.

    Mend it with openlatch grant adopt, restore, end or accept.
    """
    with session.client() as service:
        value = _DIFFERENT if kind == "different" else kind
        wanted = [f'drift eq "{value}"' if value else "drift pr"]
        if name:
            wanted.append(f'system.id eq "{session.find(service, "systems", name)}"')
        rows = list(service.every("grants", filter=" and ".join(wanted)))
    show_rows(rows, DRIFT, output, "Every system is as recorded.")


@drift.command("doubts")
@table_options
def drift_doubts(output: str) -> None:
    """Logins that may belong to somebody in the register."""
    with session.client() as service:
        show_rows(service.doubts(), DOUBTS, output, "There is no doubt about any login.")


@drift.command("decide")
@click.argument("login")
@click.option("--person", default=None, help="Whose it is.")
@click.option("--nobody", is_flag=True, help="It belongs to nobody in the register.")
def drift_decide(login: str, person: str | None, nobody: bool) -> None:
    """Say whose a login is: LOGIN as `openlatch drift doubts` shows it, or the end of its id."""
    if (person is None) != nobody:
        raise click.UsageError("Give --person, or --nobody.")
    with session.client() as service:
        ident = session.among(login, service.doubts(), "logins", lambda one: [one.login])
        service.decide_doubt(ident, session.find(service, "people", person) if person else None)
    out.print("Said; what was found under it is theirs." if person else "Said; it stays on its own.")


@click.group()
def leaver() -> None:
    """People who leave: all that they have, ended in one go."""


_SUCCESSOR = click.option(
    "--successor",
    "successors",
    multiple=True,
    metavar="ACCOUNT=PERSON",
    help="Who takes an account over; ACCOUNT= with nothing after it for nobody. Repeat it.",
)
_LOCK = click.option("--lock/--no-lock", default=True, show_default=True, help="Lock their logins where we can.")
_DROP = click.option("--drop", is_flag=True, help="Drop their logins for good instead, where a system lets us.")


@leaver.command("preview")
@click.argument("person")
@_SUCCESSOR
@_LOCK
@_DROP
@output_option
def leaver_preview(person: str, successors: tuple[str, ...], lock: bool, drop: bool, output: str) -> None:
    """What somebody's leaving would do. Nothing happens yet."""
    with session.client() as service:
        found = service.preview_leaving(
            session.find(service, "people", person), _successors(service, successors), lock, drop
        )
    show_one(found, output, lambda: _write_preview(found))


@leaver.command("start")
@click.argument("person")
@_SUCCESSOR
@_LOCK
@_DROP
@reason_option()
@consent_options
@click.option("--wait/--no-wait", default=True, show_default=True, help="Wait until nothing is left.")
@output_option
def leaver_start(
    person: str, successors: tuple[str, ...], lock: bool, drop: bool, reason: str, wait: bool, output: str
) -> int:
    """Let somebody leave: successors first, then all that they have ends."""
    with session.client() as service:
        ident, named = session.find(service, "people", person), _successors(service, successors)
        seen = service.preview_leaving(ident, named, lock, drop)
        question = f"End all that {seen.person.name} has?"
        go_on(question, lambda how: show_one(seen, how, lambda: _write_preview(seen)), output)
        found = session.proving(service, lambda: service.let_leave(ident, reason, named, lock, drop, seen.fingerprint))
        if wait:
            found = _count_down(service, found)
    show_one(found, output, lambda: _write_page(found))
    return 0 if found.left == 0 or not wait else 4


def _successors(service: Client, given: tuple[str, ...]) -> dict[UUID, UUID | None]:
    found: dict[UUID, UUID | None] = {}
    for pair in given:
        account, sign, person = pair.rpartition("=")
        if not sign or not account:
            raise click.UsageError(f"{pair!r} can't be read; write it as ACCOUNT=PERSON.")
        named = session.find(service, "people", person) if person else None
        found[session.find(service, "accounts", account)] = named
    return found


def _write_preview(found: schemas.LeavingPreview) -> None:
    out.print(Text(f"{found.person.name} leaves", style="bold"))
    for one in found.accounts:
        to = f"passes to {one.successor.name}" if one.successor else "needs a successor"
        known = f" (perhaps {', '.join(p.name for p in one.suggested)})" if one.suggested and not one.successor else ""
        out.print(f"  {one.account.name}: {found.person.name} {one.why}; it {to}{known}")
    for login in found.logins:
        state = "is locked already" if login.locked else "can be locked" if login.lockable else "can't be locked by us"
        out.print(f"  login {login.name} in {login.system.name} {state}")
    for team in found.teams:
        out.print(f"  leaves {team}")
    for team in found.speaks_for:
        out.print(f"  nobody speaks for {team} any more")
    waiting = [(found.offers, "offers"), (found.requests, "requests"), (found.items, "items to decide")]
    if told := ", ".join(f"{count} {what}" for count, what in waiting if count):
        out.print(f"  waiting for them: {told}")
    write_preview(found.revocation)


def _count_down(service: Client, found: schemas.LeavingPage) -> schemas.LeavingPage:
    """Look again until nothing is left, or time is over."""
    deadline = time.monotonic() + WAIT_SECONDS
    with err.status("Ending") as status:
        while found.left and time.monotonic() < deadline and not _waits_for_hands(service, found):
            time.sleep(0.5)
            found = service.leaving(found.person.id)
            status.update(f"{found.left} of {found.all} left")
    return found


def _waits_for_hands(service: Client, found: schemas.LeavingPage) -> bool:
    return all(service.revocation(ident).state not in ("carrying_out", "waiting") for ident in found.revocations)


def _write_page(found: schemas.LeavingPage) -> None:
    if found.begun_at is None:
        out.print(f"Nobody has let {found.person.name} leave; they are {found.standing}, and have {found.left} things.")
    else:
        ended = in_words(found.ends.model_dump())
        out.print(Text(f"{found.person.name}: {found.left} of {found.all} left; ended: {ended}", style="bold"))
    for one in found.systems:
        left = f"; {one.left} left{f': {one.answer}' if one.answer else ''}" if one.left else ""
        out.print(f"  {one.system}: {in_words(one.ends.model_dump())}{left}")
    for handed in found.handed:
        out.print(f"  {handed.account.name} passed to {handed.to.name}")
    for path in found.remains:
        out.print(f"  remains, as for everybody there: {path}", markup=False)
    for gap in found.unknown:
        out.print(f"  not looked at: {gap}", markup=False)
    for ident in found.revocations if found.left else ():
        out.print(f"  steps: openlatch revocation show {ident}")


@leaver.command("show")
@click.argument("person")
@output_option
def leaver_show(person: str, output: str) -> None:
    """How far somebody's leaving has come, line by line."""
    with session.client() as service:
        found = service.leaving(session.find(service, "people", person))
    if output == "csv":
        return show_rows(found.lines, LEFT, output, "")

    def write() -> None:
        _write_page(found)
        show_rows(found.lines, LEFT, "table", "They have nothing.")

    show_one(found, output, write)
    return None


@leaver.command("report")
@click.argument("person")
@output_option
def leaver_report(person: str, output: str) -> None:
    """What came of somebody's leaving, once nothing is left: what ended when, and how that is known."""
    with session.client() as service:
        found = service.leaving_report(session.find(service, "people", person))
    if output == "csv":
        return show_rows(found.lines, LEFT, output, "")

    def write() -> None:
        ended = in_words(found.ends.model_dump())
        out.print(Text(f"{found.person.name} has left. Ended: {ended}", style="bold"))
        for asked in found.asked:
            out.print(f"Asked by {asked.by} at {moment(asked.at)}: {asked.reason}")
        for handed in found.handed:
            out.print(f"{handed.account.name} passed to {handed.to.name}.")
        show_rows(found.lines, LEFT, "table", "They had nothing.")
        out.print(f"Journal position {found.journal.position}, {found.journal.hash}")

    show_one(found, output, write)
    return None


COMMANDS: JsonObject = {"drift": drift, "leaver": leaver}
