"""Security events that other services report about people."""

from __future__ import annotations

from collections.abc import Sequence

import click

from openlatch import schemas
from openlatch.cli import session
from openlatch.cli.consent import consent_options, go_on
from openlatch.cli.output import Column, Word, moment, out, output_option, show_one, show_rows, table_options
from openlatch.client import Client
from openlatch.errors import BadInput
from openlatch.languages.terminal import say

REACTIONS = ("ignore", "notify", "flag", "end_sessions", "end_access")


def _short(event: str) -> str:
    return event.rpartition("/")[2]


SOURCES: list[Column] = [
    ("Name", lambda r: r.name),
    ("Issuer", lambda r: r.issuer),
    ("Heard", lambda r: moment(r.heard_at)),
    ("Delivery", lambda r: r.failed or Word(r.delivery)),
    ("Reactions", lambda r: ", ".join(f"{_short(e)} {do}" for e, do in r.reactions.items() if do != "ignore")),
    ("Address", lambda r: r.address),
]
RECEIVED: list[Column] = [
    ("Received", lambda r: moment(r.received_at)),
    ("From", lambda r: r.source.name),
    ("Person", lambda r: r.person.name if r.person else Word("nobody in the register")),
    ("Event", lambda r: r.words),
    ("Outcome", lambda r: Word(r.outcome)),
    ("Reason", lambda r: r.reason),
]


RECEIVERS: list[Column] = [
    ("Name", lambda r: r.name),
    ("Status", lambda r: Word(r.status)),
    ("Delivery", lambda r: None if r.delivery == "none" else f"{say(r.delivery)} {r.address}".strip()),
    ("Waiting", lambda r: r.waiting or None),
    ("Given up", lambda r: r.given_up or None),
    ("Failing since", lambda r: moment(r.failing_since)),
    ("Events", lambda r: ", ".join(map(_short, r.events))),
]
SENT: list[Column] = [
    ("Made", lambda r: moment(r.made_at)),
    ("Event", lambda r: _short(r.event)),
    ("Person", lambda r: r.person.name if r.person else None),
    ("State", lambda r: Word(r.state)),
    ("Last answer", lambda r: r.answer),
]


@click.group()
def signal() -> None:
    """Security events: what other services report, and what they receive from here."""


@signal.command("list")
@table_options
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
@table_options
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
@click.option("--audience", default="", help="The audience of its tokens; usually this service's address.")
@click.option("--system", default="", help="Where its own names for people are logins.")
@click.option("--token", default="", help="The transmitter's token, by which its stream is made from here.")
@click.option("--poll", "polls", is_flag=True, help="With --token: fetch its events, where it can't reach us.")
@on_option
@output_option
def source_add(
    name: str, issuer: str, audience: str, system: str, token: str, polls: bool, reactions: tuple[str, ...], output: str
) -> None:
    """Take security events from the transmitter at ISSUER, called NAME (OpenID Shared Signals Framework)."""
    with session.client() as service:
        wish = schemas.SetSignalSource(
            name=name,
            issuer=issuer,
            audience=audience,
            system=session.find(service, "systems", system) if system else None,
            token=token,
            polls=polls,
            reactions=_reactions(service, reactions),
        )
        made = session.proving(service, lambda: service.add_signal_source(wish))
    show_one(made, output, lambda: _tell_made(made))


def _tell_made(made: schemas.SignalSourceMade) -> None:
    if made.source.delivery != "by_hand":
        how = "pushed here" if made.source.delivery == "push" else "fetched every few seconds"
        out.print(f"A stream was made at {made.source.issuer}; its events are {how}.", markup=False)
        return
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
        left = session.proving(service, lambda: service.remove_signal_source(held.id))
    out.print(f"{held.name} is removed; its events are refused from now on. {left}".strip(), markup=False)


@signal.group("receiver")
def receiver() -> None:
    """The services that receive security events from here (OpenID Shared Signals Framework)."""


@receiver.command("list")
@table_options
def receiver_list(output: str) -> None:
    """List the receivers and their streams."""
    with session.client() as service:
        show_rows(service.signal_receivers(), RECEIVERS, output, "Nobody receives any: openlatch signal receiver add")


@receiver.command("add")
@click.argument("name")
@click.option("--audience", default="", help="The audience of its tokens, if it has to be named in its own way.")
@output_option
def receiver_add(name: str, audience: str, output: str) -> None:
    """Let a service, called NAME, make a stream of security events here."""
    with session.client() as service:
        made = session.proving(service, lambda: service.add_signal_receiver(name, audience))
    show_one(made, output, lambda: _tell_receiver(made))


def _tell_receiver(made: schemas.SignalReceiverMade) -> None:
    out.print(f"Configuration  {made.configuration}", markup=False)
    out.print(f"Token          {made.token}", markup=False)
    out.print("Give both to the receiver, which makes its stream by them; the token is shown only now.")


def _find_receiver(service: Client, name: str) -> schemas.SignalReceiverOf:
    fits = [row for row in service.signal_receivers() if name.lower() in (row.name.lower(), str(row.id))]
    if len(fits) != 1:
        raise BadInput(
            f"{len(fits) or 'None'} of the receivers fit {name!r}.", "Look at: openlatch signal receiver list"
        )
    return fits[0]


@receiver.command("events")
@click.argument("name")
@click.option("--state", type=click.Choice(("waiting", "delivered", "given_up")), default=None)
@table_options
def receiver_events(name: str, state: str | None, output: str) -> None:
    """List the latest events for NAME."""
    with session.client() as service:
        found = service.sent_signals(_find_receiver(service, name).id, state or "")
    show_rows(found, SENT, output, "There are none.")


@receiver.command("verify")
@click.argument("name")
def receiver_verify(name: str) -> None:
    """Send NAME an event that tells only that its stream works."""
    with session.client() as service:
        held = _find_receiver(service, name)
        session.proving(service, lambda: service.verify_signal_receiver(held.id))
    out.print(f"It is sent within seconds; look at: openlatch signal receiver events {name!r}", markup=False)


@receiver.command("pause")
@click.argument("name")
@click.option("--reason", default="", help="Why; the receiver is notified.")
def receiver_pause(name: str, reason: str) -> None:
    """Pause the stream of NAME, so that it can't resume it; what happens meanwhile is sent later."""
    with session.client() as service:
        held = _find_receiver(service, name)
        session.proving(service, lambda: service.pause_signal_receiver(held.id, reason))
    out.print(f"The stream of {held.name} is paused.", markup=False)


@receiver.command("resume")
@click.argument("name")
def receiver_resume(name: str) -> None:
    """Resume the stream of NAME where it was paused."""
    with session.client() as service:
        held = _find_receiver(service, name)
        session.proving(service, lambda: service.resume_signal_receiver(held.id))
    out.print(f"The stream of {held.name} goes on.", markup=False)


@receiver.command("send-again")
@click.argument("name")
def receiver_send_again(name: str) -> None:
    """Send the events that were given up for NAME again."""
    with session.client() as service:
        held = _find_receiver(service, name)
        count = session.proving(service, lambda: service.send_signals_again(held.id))
    out.print(f"{count} {'is' if count == 1 else 'are'} sent again.", markup=False)


@receiver.command("remove")
@click.argument("name")
@consent_options
def receiver_remove(name: str) -> None:
    """Send NAME nothing more, and refuse its token."""
    with session.client() as service:
        held = _find_receiver(service, name)
        go_on(f"Send no more security events to {held.name}?")
        session.proving(service, lambda: service.remove_signal_receiver(held.id))
    out.print(f"{held.name} is removed; what waited for it is deleted.", markup=False)


COMMANDS: dict[str, click.Command] = {"signal": signal}
