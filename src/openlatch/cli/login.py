"""Signing in and out."""

from __future__ import annotations

import os
import time
import webbrowser
from uuid import UUID

import click

from openlatch import schemas
from openlatch.cli import session
from openlatch.cli.latches import inside_in_words
from openlatch.cli.output import day, out, output_option, show_one
from openlatch.client import CallFailed, Client, service_at
from openlatch.core.vocabulary import TokenScope
from openlatch.languages.terminal import chosen, say

PROGRAM = "openlatch on the command line"


@click.command()
@click.option("--url", default=None, help="The service's address, or the one that leads to your organisation's.")
@click.option("--address", default=None, help="Your e-mail address, to sign in with your password here.")
@click.option("--password", default=None, envvar="OPENLATCH_PASSWORD", help="Your password; asked for with --address.")
@click.option("--code", default="", help="The code of your second factor.")
@click.option("--organisation", default="", help="Its short name, for whoever signs in at several.")
@click.option("--read-only", is_flag=True, help="Make a token that may only read.")
def login(
    url: str | None, address: str | None, password: str | None, code: str, organisation: str, read_only: bool
) -> None:
    """Sign in, and keep a token for the commands that follow.

    In your browser, wherever that is: as you sign in there, with a passkey or by your identity provider. With --address
    by your password here.
    """
    url = service_at(url or session.load().url)
    scope = TokenScope.READ if read_only else TokenScope.WRITE
    with Client(url, language=chosen()) as service:
        if address is None:
            token, ident = _by_browser(service, scope), ""
        else:
            password = password or click.prompt(say("Password"), hide_input=True, err=True)
            made = _by_password(service, address, password, code, organisation, scope)
            token, ident = made.token, str(made.id)
    with Client(url, token, language=chosen()) as service:
        me = service.me()
        mine = next(one for one in service.own_sign_in().tokens if ident in ("", str(one.id)) and one.is_this)
    session.save(session.Saved(url, token, str(mine.id), me.organisation.time_zone))
    out.print(f"Signed in to {me.organisation.name} as {me.person.name}, until {day(mine.expires_at)}.")


def _by_password(
    service: Client, address: str, password: str, code: str, organisation: str, scope: TokenScope
) -> schemas.Token:
    try:
        return service.make_token(address, password, scope=scope, code=code, organisation=organisation)
    except CallFailed as error:
        if code or not error.problem.type.endswith(":factor-needed"):
            raise
        code = click.prompt(say("Code of your second factor"), err=True)
        return service.make_token(address, password, scope=scope, code=code, organisation=organisation)


def _by_browser(service: Client, scope: TokenScope) -> str:
    """A token, once somebody has let this program in. CallFailed when they refuse, or are too late."""
    asked = service.begin_device(PROGRAM, scope)
    click.echo(say(f"Open {asked['verification_uri']} in a browser, and give the code {asked['user_code']}"), err=True)
    if os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"):
        webbrowser.open(asked["verification_uri_complete"])
    wait = asked["interval"]
    while True:
        time.sleep(wait)
        try:
            return str(service.collect_device(PROGRAM, asked["device_code"])["access_token"])
        except CallFailed as error:
            if error.title == "slow_down":
                wait += 5
            elif error.title != "authorization_pending":
                raise


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
