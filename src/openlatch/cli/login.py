"""Signing in and out."""

from __future__ import annotations

from uuid import UUID

import click

from openlatch.cli import session
from openlatch.cli.latches import inside_in_words
from openlatch.cli.output import day, out, output_option, show_one
from openlatch.client import CallFailed, Client
from openlatch.core.vocabulary import TokenScope


@click.command()
@click.option("--url", default=None, help="The service's address.")
@click.option("--address", prompt="Address", help="Your e-mail address.")
@click.option("--password", prompt="Password", hide_input=True, envvar="OPENLATCH_PASSWORD", help="Your password.")
@click.option("--code", default="", help="The code of your second factor.")
@click.option("--organisation", default="", help="Its short name, for whoever signs in at several.")
@click.option("--read-only", is_flag=True, help="Make a token that may only read.")
def login(url: str | None, address: str, password: str, code: str, organisation: str, read_only: bool) -> None:
    """Sign in, and keep a token for the commands that follow."""
    url = url or session.load().url
    with Client(url) as service:
        scope = TokenScope.READ if read_only else TokenScope.WRITE
        try:
            token = service.make_token(address, password, scope=scope, code=code, organisation=organisation)
        except CallFailed as error:
            if code or not error.problem.type.endswith(":factor-needed"):
                raise
            token = service.make_token(
                address,
                password,
                scope=scope,
                code=click.prompt("Code of your second factor"),
                organisation=organisation,
            )
    with Client(url, token.token) as service:
        me = service.me()
    session.save(session.Saved(url, token.token, str(token.id), me.organisation.time_zone))
    out.print(f"Signed in to {me.organisation.name} as {me.person.name}, until {day(token.expires_at)}.")


@click.command()
def logout() -> None:
    """End the token, and forget it."""
    saved = session.load()
    if saved.token_id:
        with session.client() as service:
            service.end_token(UUID(saved.token_id))
    session.forget()
    out.print("Signed out.")


@click.command()
@output_option
def whoami(output: str) -> None:
    """Who is signed in, and as what."""
    with session.client() as service:
        me = service.me()
    kinds = [
        k for k, yes in (("administrator", me.administrator), ("owner", me.owner), ("reviewer", me.reviewer)) if yes
    ]

    def write() -> None:
        out.print(f"{me.person.name}, {me.organisation.name}: {', '.join(kinds) or 'delegate'}")
        if me.inside is not None:
            out.print(inside_in_words(me.inside))

    show_one(me, output, write)


COMMANDS = {"login": login, "logout": logout, "whoami": whoami}
