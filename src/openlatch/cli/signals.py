"""Security events that other services report about people."""

from __future__ import annotations

from collections.abc import Sequence

import click

from openlatch import schemas
from openlatch.cli import session
from openlatch.cli.consent import consent_options, go_on
from openlatch.cli.output import Column, moment, out, output_option, show_one, show_rows
from openlatch.client import Client
from openlatch.errors import BadInput

REACTIONS = ("ignore", "notify", "flag", "end_sessions", "end_access")


def _short(event: str) -> str:
    return event.rpartition("/")[2]


SOURCES: list[Column] = [
    ("Name", lambda r: r.name),
    ("Issuer", lambda r: r.issuer),
    ("Heard", lambda r: moment(r.heard_at)),
    ("Reactions", lambda r: ", ".join(f"{_short(e)} {do}" for e, do in r.reactions.items() if do != "ignore")),
    ("Address", lambda r: r.address),
]
RECEIVED: list[Column] = [
    ("Received", lambda r: moment(r.received_at)),
    ("From", lambda r: r.source.name),
    ("Person", lambda r: r.person.name if r.person else "nobody in the register"),
    ("Event", lambda r: r.words),
    ("Outcome", lambda r: r.outcome),
    ("Reason", lambda r: r.reason),
]


@click.group()
def signal() -> None:
    """Security events that other services report: sessions revoked, accounts disabled, credentials changed."""


@signal.command("list")
@output_option
def signal_list(output: str) -> None:
    """List what was reported last, and what came of it."""
    with session.client() as service:
        show_rows(service.received_signals().signals, RECEIVED, output, "Nothing has been reported yet.")


@signal.command("clear")
@click.argument("person")
def signal_clear(person: str) -> None:
    """Say that what was reported about PERSON is dealt with; its flags clear."""
    with session.client() as service:
        service.clear_report(session.find(service, "people", person))
    out.print("The report is cleared; its flags follow within moments.")


@signal.group("source")
def source() -> None:
    """The services that report security events, and what their events make happen here."""


@source.command("list")
@output_option
def source_list(output: str) -> None:
    """List the services that report security events."""
    with session.client() as service:
        found = service.signal_sources().sources
    show_rows(found, SOURCES, output, "No service reports any. Add one: openlatch signal source add")


def _reactions(service: Client, written: Sequence[str]) -> dict[str, schemas.SignalReaction]:
    """Reactions as typed, by the whole type of the event. BadParameter for what is none."""
    known = {_short(event): event for event in service.signal_sources().events}
    found: dict[str, schemas.SignalReaction] = {}
    for one in written:
        event, _, reaction = one.partition("=")
        if event not in known or reaction not in REACTIONS:
            raise click.BadParameter(
                f"{one!r}: write it as account-disabled=flag, an event ({', '.join(known)}) and one of "
                f"{', '.join(REACTIONS)}.",
                param_hint="--on",
            )
        found[known[event]] = reaction  # type: ignore[assignment]
    return found


on_option = click.option(
    "--on",
    "reactions",
    multiple=True,
    metavar="EVENT=REACTION",
    help="What an event makes happen, as account-disabled=flag.",
)


@source.command("add")
@click.argument("name")
@click.argument("issuer")
@click.option("--audience", default="", help="Whom its tokens are for; usually this service's address.")
@click.option("--system", default="", help="Where its own names for people are logins.")
@on_option
@output_option
def source_add(name: str, issuer: str, audience: str, system: str, reactions: tuple[str, ...], output: str) -> None:
    """Take security events from the transmitter at ISSUER, called NAME (OpenID Shared Signals Framework)."""
    with session.client() as service:
        wish = schemas.SetSignalSource(
            name=name,
            issuer=issuer,
            audience=audience,
            system=session.find(service, "systems", system) if system else None,
            reactions=_reactions(service, reactions),
        )
        made = session.proving(service, lambda: service.add_signal_source(wish))
    show_one(made, output, lambda: _tell_made(made))


def _tell_made(made: schemas.SignalSourceMade) -> None:
    out.print(f"Address  {made.source.address}", markup=False)
    out.print(f"Token    {made.token}", markup=False)
    out.print("Give both to the transmitter (push delivery, RFC 8935); the token is shown only now.")


def _find(service: Client, name: str) -> schemas.SignalSourceOf:
    rows = service.signal_sources().sources
    fits = [row for row in rows if name.lower() in (row.name.lower(), str(row.id))]
    if len(fits) != 1:
        raise BadInput(f"{len(fits) or 'None'} of the sources fit {name!r}.", "Look at: openlatch signal source list")
    return fits[0]


@source.command("change")
@click.argument("name")
@on_option
@output_option
def source_change(name: str, reactions: tuple[str, ...], output: str) -> None:
    """Change what the events of NAME make happen; events left out stay as they are."""
    with session.client() as service:
        held = _find(service, name)
        both = {**held.reactions, **_reactions(service, reactions)}
        wish = schemas.SetSignalSource.model_validate(
            {
                "name": held.name,
                "issuer": held.issuer,
                "audience": held.audience,
                "system": held.system.id if held.system else None,
                "reactions": both,
            }
        )
        found = session.proving(service, lambda: service.change_signal_source(held.id, wish))
    show_one(found, output, lambda: show_rows([found], SOURCES, output, ""))


@source.command("remove")
@click.argument("name")
@consent_options
def source_remove(name: str) -> None:
    """Take no more events from NAME."""
    with session.client() as service:
        held = _find(service, name)
        go_on(f"Take no more security events from {held.name}?")
        session.proving(service, lambda: service.remove_signal_source(held.id))
    out.print(f"{held.name} is removed; its events are refused from now on.", markup=False)


COMMANDS: dict[str, click.Command] = {"signal": signal}
