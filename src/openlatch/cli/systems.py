"""Set-up, mail and systems, for administrators."""

from __future__ import annotations

from typing import Any

import click

from openlatch import schemas
from openlatch.cli import imports, session
from openlatch.cli import settings as organisation_settings
from openlatch.cli.consent import consent_options, go_on, only_preview
from openlatch.cli.output import Column, Word, out, output_option, show_one, show_rows, table_options
from openlatch.client import Client
from openlatch.core.vocabulary import TrialState
from openlatch.errors import BadInput
from openlatch.languages.terminal import chosen, say

SETTINGS: list[Column] = [
    ("Setting", lambda s: s.name),
    ("Usual", lambda s: Word("needed") if s.usual is None else str(s.usual)),
    ("What it is", lambda s: s.about),
]
system: click.Group = imports.COMMANDS["system"]  # type: ignore[assignment]
settings = organisation_settings.settings


@click.command("set-up")
@click.option("--url", default=None, help="The address of the service.")
@click.option(
    "--code", prompt="The code that the start printed", help="The code that the start of the service printed."
)
@click.option("--organisation", prompt=True, help="The organisation's name.")
@click.option("--time-zone", prompt=True, default="Europe/London", show_default=True, help="Its time zone.")
@click.option("--name", prompt="Your name", help="Your name.")
@click.option("--address", prompt="Your e-mail address", help="What you sign in with.")
@click.password_option("--password", prompt="Choose a password", help="What you sign in with.")
def set_up(url: str | None, password: str, **given: str) -> None:
    """Set up the first organisation, with you as its administrator."""
    address = url or session.load().url
    with Client(address, language=chosen()) as service:
        service.set_up(schemas.SetUp(password=password, **given))
        token = service.make_token(given["address"], password)
    session.save(session.Saved(address, token.token, str(token.id), given["time_zone"]))
    out.print(f"{given['organisation']} is set up, and you are signed in as {given['name']}.", markup=False)
    out.print("Next: openlatch system add, account add, person add, grant record, round open.")


@system.command("adapters")
@click.argument("kind", required=False)
@table_options
def system_adapters(kind: str | None, output: str) -> None:
    """List the kinds of systems that Open Latch connects to; with a KIND, its settings."""
    with session.client() as service:
        found = service.adapters()
    if kind is None:
        show_rows(found, [("Kind", lambda a: a.kind), ("What it is", lambda a: a.name)], output, "")
        return
    named = [one for one in found if one.kind == kind]
    if not named:
        raise BadInput(f"There is no kind {kind!r}.", f"Use one of: {', '.join(one.kind for one in found)}.")
    show_rows(named[0].settings, SETTINGS, output, "")
    if output == "table":
        out.print("Its login has to be allowed:", "; ".join(named[0].rights) or "nothing special", markup=False)


def _given(given: tuple[str, ...]) -> dict[str, str | int]:
    pairs = [one.partition("=") for one in given]
    lacking = [name for name, equals, _ in pairs if not equals]
    if lacking:
        raise BadInput(f"{lacking[0]!r} can't be read.", "Write --set NAME=VALUE.")
    return {name: value for name, _, value in pairs}


def _trial(service: Client, kind: str, given: tuple[str, ...], password: str | None, ident: Any = None) -> Any:
    """A trial that went well. BadInput with the system's own words when it did not."""
    found = service.try_system(kind, _given(given), password, ident)
    if found.state != TrialState.GOOD:
        raise BadInput(
            f"It was tried, and {'no worker answered' if found.state == 'waiting' else 'refused'}.",
            found.answer or "Look whether the worker runs.",
        )
    return found


@system.command("add")
@click.argument("name")
@click.option("--kind", default=None, help="The kind of its adapter (openlatch system adapters); left out, by hand.")
@click.option("--set", "given", multiple=True, metavar="NAME=VALUE", help="How it is reached; repeat it.")
@click.option("--password", envvar="OPENLATCH_SYSTEM_PASSWORD", default=None, help="Of Open Latch's login there.")
@click.option("--try", "only_try", is_flag=True, help="Try it, and keep nothing.")
@output_option
def system_add(
    name: str, kind: str | None, given: tuple[str, ...], password: str | None, only_try: bool, output: str
) -> None:
    """Add the system NAME: connected by an adapter, after a trial, or managed by hand."""
    with session.client() as service:
        trial = None
        if kind is not None:
            needs = next((one.needs_secret for one in service.adapters() if one.kind == kind), False)
            if needs and password is None:
                password = click.prompt(say("Password"), hide_input=True)
            trial = _trial(service, kind, given, password)
        if only_try:
            out.print(trial.answer if trial else "There is nothing to try by hand.", markup=False)
            return
        found = service.make_system(name, trial.id if trial else None)
    show_one(
        found,
        output,
        lambda: out.print(
            f"{found.name} is {'connected, and read soon' if trial else 'added; it is looked after by hand'}.",
            markup=False,
        ),
    )


@system.command("edit")
@click.argument("name_or_id")
@click.option("--name", default=None, help="Another name.")
@click.option("--kind", default=None, help="The kind of its adapter, for one that was looked after by hand.")
@click.option("--set", "given", multiple=True, metavar="NAME=VALUE", help="How it is reached; what is left out stays.")
@click.option("--password", envvar="OPENLATCH_SYSTEM_PASSWORD", default=None, help="A new password or key.")
def system_edit(
    name_or_id: str, name: str | None, kind: str | None, given: tuple[str, ...], password: str | None
) -> None:
    """Rename a system, change its settings or rotate its secret; they are tried before they are saved."""
    with session.client() as service:
        held = service.system_record(session.find(service, "systems", name_or_id))
        trial = None
        if given or password or kind:
            kept = tuple(
                f"{key}={value}" for key, value in held.settings.items() if key not in _given(given) and value != ""
            )
            trial = _trial(service, kind or held.kind, (*kept, *given), password, held.id)
        found = session.proving(
            service, lambda: service.edit_system(held.id, name, trial.id if trial else None, held.version)
        )
    out.print(f"{found.name} is changed.", markup=False)


@system.command("pause")
@click.argument("name_or_id")
@click.option("--undo", is_flag=True, help="Let it be read again.")
def system_pause(name_or_id: str, undo: bool) -> None:
    """Pause reading a system."""
    with session.client() as service:
        found = service.pause_system(session.find(service, "systems", name_or_id), not undo)
    out.print(f"{found.name} is {'read again' if undo else 'not read until you let it'}.", markup=False)


@system.command("remove")
@click.argument("name_or_id")
@consent_options
def system_remove(name_or_id: str) -> None:
    """Remove a system in which no account is."""
    with session.client() as service:
        found = service.system_record(session.find(service, "systems", name_or_id))
        if only_preview() or not found.dependents:
            go_on(f"Remove {found.name}, with its levels and its secret?")
        session.proving(service, lambda: service.remove_system(found.id))
    out.print(f"{found.name} is removed.", markup=False)


@settings.command("organisation")
@click.option("--name", default=None, help="Its name.")
@click.option("--time-zone", default=None, help="Its time zone, as in Europe/London.")
def settings_organisation(name: str | None, time_zone: str | None) -> None:
    """Rename the organisation, or set its time zone; options left out stay unchanged."""
    with session.client() as service:
        held = service.me().organisation
        found = service.set_organisation(name or held.name, time_zone or held.time_zone).organisation
    out.print(f"{found.name}, in {found.time_zone}.", markup=False)


@settings.command("mail")
@click.option("--host", default=None, help="The server; empty: as the worker's configuration says.")
@click.option("--port", type=click.IntRange(1, 65535), default=None, help="Its port.")
@click.option("--user", default=None, help="The user to sign in there with.")
@click.option("--password", default=None, envvar="OPENLATCH_MAIL_PASSWORD", help="Their password.")
@click.option("--sender", default=None, help="The address that mail comes from.")
@click.option("--starttls/--no-starttls", default=None, help="Whether the connection is encrypted.")
@click.option("--test", "wants_test", is_flag=True, help="Send yourself a test message.")
@output_option
def settings_mail(output: str, wants_test: bool, **given: object) -> None:
    """Show or set the mail server; options left out stay unchanged."""
    with session.client() as service:
        held = service.mail_settings()
        if any(value is not None for value in given.values()):
            kept = held.model_dump(include={"host", "port", "user", "sender", "starttls"})
            wish = schemas.SetMail(**kept | {key: value for key, value in given.items() if value is not None})
            held = session.proving(service, lambda: service.set_mail(wish))
        if wants_test:
            held = service.test_mail()

    def write() -> None:
        out.print(
            "As the worker's configuration says."
            if held.by_configuration
            else f"Through {held.host}:{held.port} from {held.sender}.",
            markup=False,
        )
        if held.test_state:
            out.print(f"The test message: {held.test_state}. {held.test_answer}", markup=False)

    show_one(held, output, write)


COMMANDS: dict[str, click.Command] = {"set-up": set_up, "system": system, "settings": settings}
