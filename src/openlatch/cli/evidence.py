"""Evidence of reviews, questions about your access, your calendar and your absence."""

from __future__ import annotations

import json
from datetime import date, datetime
from pathlib import Path
from uuid import UUID

import click

from openlatch import schemas
from openlatch.cli import session, trust
from openlatch.cli.output import Column, day, end_day, moment, out, output_option, short
from openlatch.cli.register import list_command
from openlatch.client import Client
from openlatch.client.base import end
from openlatch.core.reviews import evidence_bundle

# The exit code of verifying when nothing is altered and no key is trusted.
UNKNOWN_SIGNER = 6
QUESTIONS: list[Column] = [
    ("ID", lambda q: short(q.id)),
    ("Account", lambda q: q.account.name),
    ("Asked by", lambda q: q.asked_by.name if q.asked_by else "–"),
    ("Question", lambda q: q.question),
    ("Answer", lambda q: q.answer),
    ("When", lambda q: day(q.asked_at)),
]


@click.group()
def evidence() -> None:
    """Evidence of reviews."""


@evidence.command("take")
@click.argument("ident", type=session.Reference("rounds"))
@click.option("--to", type=click.Path(dir_okay=False, path_type=Path), required=True, help="The file to write.")
def evidence_take(ident: UUID, to: Path) -> None:
    """Download the evidence of a closed review, as a ZIP archive."""
    with session.client() as service:
        content = service.evidence(ident)
    to.write_bytes(content)
    out.print(f"{len(content)} bytes written to {to}. Verify it: openlatch evidence verify {to}")


@evidence.command("trust")
@click.argument("key", required=False, default="")
@click.option("--whose", default="", help="Whose key it is; left out, the address of the service.")
@click.option("--replace", is_flag=True, help="Also when another key of theirs is trusted.")
def evidence_trust(key: str, whose: str, replace: bool) -> None:
    """Trust the key that the service signs with, or KEY, for all later verification.

    Compare the key with what the organisation publishes elsewhere before you trust it.
    """
    if key:
        name = whose or "the key that you gave"
    else:
        with session.client() as service:
            key, name = trust.of_service(service.published_keys()), whose or session.load().url
    if trust.trust(key, name, replace):
        out.print(f"Trusted from now on: {key} ({name}). Ask them, by phone or in person, whether it is theirs.")
    else:
        out.print(f"That key is trusted already: {trust.whose(key)}.")


@evidence.command("verify")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--key", default="", help="The public key that it has to be signed with (x of its JSON Web Key).")
@output_option
def evidence_verify(file: Path, key: str, output: str) -> int:
    """Check that an evidence bundle is unaltered and signed by a key that you trust. Works offline.

    Exit code 0: sound. 4: altered. 6: unaltered, but the signer is unknown, since no key is trusted.
    """
    found = evidence_bundle.verify(file.read_bytes(), trust.keys(key))
    if output == "json":
        shown = {
            "sound": found.sound,
            "unaltered": found.unaltered,
            "trusted": found.is_trusted,
            "round": found.round,
            "items": found.items,
            "position": found.position,
            "hash": found.hash,
            "key": found.key,
            "addenda": found.addenda,
            "faults": list(found.faults),
        }
        print(json.dumps(shown, indent=2, ensure_ascii=False))
    else:
        _write(found)
    return 0 if found.sound else UNKNOWN_SIGNER if found.unaltered else 4


def _write(found: evidence_bundle.Finding) -> None:
    for fault in found.faults[:50]:
        out.print("Fault:", fault, markup=False)
    if not found.unaltered:
        out.print(f"Not sound. Faults: {len(found.faults)}.")
        return
    about = f"“{found.round}”, {found.items} items, ended at journal position {found.position}"
    if found.is_trusted:
        out.print(f"Sound: {about}.")
        out.print(f"Signed by {trust.whose(found.key)} ({found.key}).")
    else:
        out.print(f"Unaltered, but who made it is not known: {about}.")
        out.print(f"It is signed with the key {found.key}, which anybody could have made.")
        out.print("Trust the organisation's key first: openlatch evidence trust, or give it with --key.")
    out.print(f"That entry's hash: {found.hash}")
    if found.addenda:
        out.print(f"{found.addenda} addenda: what came to light after the review had ended is in addenda.json.")


@evidence.command("schema")
def evidence_schema() -> None:
    """Print the JSON Schema of the evidence."""
    print(json.dumps(schemas.evidence_schema(), indent=2))


@click.group()
def question() -> None:
    """Questions about review items."""


question.add_command(list_command("questions", QUESTIONS, "There is no question."))


@question.command("answer")
@click.argument("ident", type=session.Reference("questions"))
@click.argument("answer")
def question_answer(ident: UUID, answer: str) -> None:
    """Answer a question to you."""
    with session.client() as service:
        service.answer_question(ident, answer)
    out.print("Answered.")


@click.group()
def calendar() -> None:
    """Your calendar of due dates and ends of access (iCalendar)."""


@calendar.command("show")
def calendar_show() -> None:
    """Show whether you have a calendar address, and when it was last read."""
    with session.client() as service:
        found = service.calendar()
    if found.made_at is None:
        out.print("You have no calendar address. Make one: openlatch calendar make")
    else:
        read = moment(found.read_at) if found.read_at else "never"
        out.print(f"Made {moment(found.made_at)}, last read {read}. The address itself is shown only once.")


@calendar.command("make")
def calendar_make() -> None:
    """Create a new address for it; the old one stops working."""
    with session.client() as service:
        found = service.make_calendar()
    out.print("Give this address to your calendar program, and to nobody else:")
    out.print(found.address, soft_wrap=True)


@calendar.command("end")
def calendar_end() -> None:
    """Remove its address."""
    with session.client() as service:
        service.end_calendar()
    out.print("The address is ended.")


@click.command()
@click.option("--person", default="", help="Somebody else, for administrators.")
@click.option("--from", "since", type=session.Start(), help="The first day away.")
@click.option("--until", type=session.LastDay(), help="The last day away.")
@click.option("--deputy", default="", help="Who decides meanwhile.")
@click.option("--back", is_flag=True, help="They are there again.")
def away(person: str, since: datetime | None, until: date | datetime | None, deputy: str, back: bool) -> None:
    """Set when you are away and who decides in reviews meanwhile; without options, show it."""
    with session.client() as service:
        own = service.me().person
        ident = session.find(service, "people", person) if person else own.id
        if since is None and not back:
            found = service.absence(ident)
        else:
            given = {
                "since": since,
                **end(until),
                "deputy": _deputy(service, ident, deputy) if deputy else None,
            }
            found = service.set_absence(ident, schemas.Absent.model_validate({} if back else given))
    if found.since is None:
        out.print("Not away." + (f" Deputy: {found.deputy.name}." if found.deputy else ""))
    else:
        until_words = f" until {end_day(found.until)}" if found.until else ""
        standing_in = f"; {found.deputy.name} stands in" if found.deputy else "; nobody stands in"
        out.print(f"Away from {day(found.since)}{until_words}{standing_in}.")


def _deputy(service: Client, person: UUID, name: str) -> UUID:
    """A person by name, among those who could stand in; else among everybody that one sees."""
    beside = [one.id for one in service.absence(person).could_stand_in if one.name.lower() == name.lower()]
    return beside[0] if len(beside) == 1 else session.find(service, "people", name)


COMMANDS: dict[str, click.Command] = {
    "evidence": evidence,
    "question": question,
    "calendar": calendar,
    "away": away,
}
