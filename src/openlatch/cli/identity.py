"""Sign-ins, invitations, passwords, and your own sign-in."""

from __future__ import annotations

from collections.abc import Callable
from uuid import UUID

import click
from rich.text import Text

from openlatch import schemas
from openlatch.cli import renamed, session, settings
from openlatch.cli.consent import consent_options, go_on
from openlatch.cli.output import (
    Column,
    Word,
    moment,
    out,
    output_option,
    short,
    show_one,
    show_rows,
    table_options,
    yes,
)
from openlatch.client import Client
from openlatch.errors import BadInput
from openlatch.languages.terminal import chosen

ROLES = click.Choice(["administrator", "auditor", "reviewer", "member"])
SIGN_INS: list[Column] = [
    ("Who", lambda r: r.person.name),
    ("Address", lambda r: r.address),
    ("Role", lambda r: Word(r.role, "suspended" if r.suspended_at else None)),
    ("Second factor", lambda r: yes(r.second_factor)),
    ("Last seen", lambda r: moment(r.last_seen_at)),
    ("Sessions", lambda r: r.sessions),
    ("Tokens", lambda r: r.tokens),
]
INVITED: list[Column] = [
    ("ID", lambda r: short(r.id)),
    ("Who", lambda r: r.person.name),
    ("Address", lambda r: r.address),
    ("Role", lambda r: Word(r.role)),
    ("Runs out", lambda r: moment(r.runs_out_at)),
]
SESSIONS: list[Column] = [
    ("ID", lambda r: short(r.id)),
    ("Device", lambda r: r.device),
    ("From", lambda r: r.address),
    ("Last seen", lambda r: moment(r.last_seen_at)),
    ("", lambda r: "this one" if r.is_this else None),
]
TOKENS: list[Column] = [
    ("ID", lambda r: short(r.id)),
    ("Name", lambda r: r.name),
    ("May", lambda r: Word(r.scope)),
    ("Last used", lambda r: moment(r.last_used_at)),
    ("Runs out", lambda r: moment(r.expires_at)),
]

PASSKEYS: list[Column] = [
    ("Passkey", lambda r: r.name),
    ("Added", lambda r: moment(r.made_at)),
    ("Last used", lambda r: moment(r.last_used_at)),
    ("", lambda r: "shared by your devices" if r.is_backed_up else "on one device"),
]


@click.group("sign-in")
def sign_in() -> None:
    """Sign-ins and their roles."""


@sign_in.command("list")
@table_options
def sign_in_list(output: str) -> None:
    """List the sign-ins of the organisation."""
    with session.client() as service:
        show_rows(service.sign_ins(), SIGN_INS, output, "Nobody signs in.")


def _find(service: Client, name: str) -> schemas.SignInOf:
    rows = service.sign_ins()
    fits = [r for r in rows if name.lower() in (r.person.name.lower(), r.address.lower(), str(r.id))]
    fits = fits or [r for r in rows if name.lower() in r.person.name.lower()]
    if len(fits) != 1:
        raise BadInput(f"{len(fits) or 'None'} of the sign-ins fit {name!r}.", "Look at: openlatch sign-in list")
    return fits[0]


def _act(name: str, about: str, question: str, call: Callable[[Client, UUID], object], done: str) -> None:
    @sign_in.command(name, help=about)
    @click.argument("who")
    @consent_options
    def command(who: str) -> None:
        with session.client() as service:
            found = _find(service, who)
            go_on(question.format(found.person.name))
            session.proving(service, lambda: call(service, found.id))
        out.print(done.format(found.person.name), markup=False)


_act(
    "suspend",
    "Suspend a sign-in: what is open ends at once.",
    "Suspend the sign-in of {}?",
    lambda c, i: c.suspend_sign_in(i),
    "{} can't sign in until resumed.",
)
_act(
    "resume",
    "Let a suspended sign-in in again.",
    "Let {} sign in again?",
    lambda c, i: c.suspend_sign_in(i, False),
    "{} can sign in again.",
)
_act(
    "take-away",
    "Take a sign-in away; the person stays in the register.",
    "Take the sign-in of {} away?",
    lambda c, i: c.take_sign_in_away(i),
    "{} has no sign-in any more.",
)
_act(
    "end-sessions",
    "End all sessions of a sign-in.",
    "End all sessions of {}?",
    lambda c, i: c.end_sign_in_sessions(i),
    "The sessions of {} have ended.",
)
_act(
    "end-tokens",
    "End all API tokens of a sign-in.",
    "End all API tokens of {}?",
    lambda c, i: c.end_sign_in_tokens(i),
    "The tokens of {} have ended.",
)
_act(
    "reset-factor",
    "Reset somebody's second factor.",
    "Reset the second factor of {}?",
    lambda c, i: c.reset_factor(i),
    "{} signs in with the password alone until another factor is set up.",
)


@sign_in.command("set-role")
@click.argument("who")
@click.argument("role", type=ROLES)
def sign_in_set_role(who: str, role: schemas.RoleName) -> None:
    """Change the role of a sign-in."""
    with session.client() as service:
        found = _find(service, who)
        session.proving(service, lambda: service.set_role(found.id, role))
    out.print(f"{found.person.name} is {role} now (before: {found.role}).", markup=False)


@sign_in.command("invite")
@click.argument("person", required=False)
@click.option("--name", default="", help="The name of somebody new.")
@click.option("--address", default="", help="Where the link is sent to, for whoever has no address yet.")
@click.option("--role", type=ROLES, default="member", show_default=True)
@output_option
def sign_in_invite(person: str | None, name: str, address: str, role: schemas.RoleName, output: str) -> None:
    """Invite somebody to sign in, by mail: a PERSON of the register, or somebody new with --name and --address."""
    with session.client() as service:
        ident = session.find(service, "people", person) if person else None
        wish = schemas.Invite(person=ident, name=name, address=address, role=role)
        found = session.proving(service, lambda: service.invite(wish))
    show_one(
        found,
        output,
        lambda: out.print(
            f"{found.person.name} is invited as {found.role}; the link to {found.address} runs out "
            f"{moment(found.runs_out_at)}.",
            markup=False,
        ),
    )


@click.group()
def invitation() -> None:
    """Invitations to sign in."""


@invitation.command("list")
@table_options
def invitation_list(output: str) -> None:
    """List pending invitations."""
    with session.client() as service:
        show_rows(service.invitations(), INVITED, output, "Nobody is invited.")


def _invited(service: Client, whose: str) -> UUID:
    return session.among(whose, service.invitations(), "invitations", lambda one: [one.person.name, one.address])


@invitation.command("resend")
@click.argument("whose")
def invitation_again(whose: str) -> None:
    """Send an invitation again, with a new link: WHOSE by name, address, or the end of its id."""
    with session.client() as service:
        ident = _invited(service, whose)
        found = session.proving(service, lambda: service.invite_again(ident))
    out.print(f"Sent to {found.address}; it runs out {moment(found.runs_out_at)}.", markup=False)


@invitation.command("withdraw")
@click.argument("whose")
def invitation_withdraw(whose: str) -> None:
    """Withdraw an invitation: WHOSE by name, address, or the end of its id."""
    with session.client() as service:
        service.withdraw_invitation(_invited(service, whose))
    out.print("The link opens nothing any more.")


@invitation.command("accept")
@click.argument("link")
@click.password_option("--password", prompt="Choose a password", help="What you sign in with from now on.")
def invitation_accept(link: str, password: str) -> None:
    """Accept an invitation by its link, choosing a password."""
    with Client(session.load().url, language=chosen()) as service:
        found = service.accept_invitation(link.rpartition("#")[2], password)
    out.print(f"Welcome, {found.person.name}. Sign in: openlatch login", markup=False)


@click.group()
def password() -> None:
    """Your password."""


@password.command("forgot")
@click.argument("address")
def password_forgot(address: str) -> None:
    """Request a link for choosing a new password."""
    with Client(session.load().url, language=chosen()) as service:
        service.forgot_password(address)
    out.print("If somebody signs in with this address, a link is on its way to it. It works for an hour.")


@password.command("new")
@click.argument("link")
@click.password_option("--password", prompt="New password", help="What you sign in with from now on.")
def password_new(link: str, password: str) -> None:
    """Choose a new password with the link that you received."""
    with Client(session.load().url, language=chosen()) as service:
        service.new_password(link.rpartition("#")[2], password)
    out.print("Your password is changed, and everything that was open is ended. Sign in: openlatch login")


@password.command("change")
@click.password_option("--password", prompt="New password", help="What you sign in with from now on.")
def password_change(password: str) -> None:
    """Change your password; your other sessions end."""
    with session.client() as service:
        session.proving(service, lambda: service.change_password(password))
    out.print("Your password is changed; your other sessions have ended.")


me = settings.me


@me.command("show")
@output_option
def me_show(output: str) -> None:
    """Show your sign-in: addresses, second factor, sessions and tokens."""
    with session.client() as service:
        found = service.own_sign_in()
    show_one(found, output, lambda: _write_own(found))


def _write_own(found: schemas.OwnPage) -> None:
    out.print(Text(found.name, style="bold"), f"{found.role}, signs in with {found.sign_in_address}")
    for one in found.addresses:
        known = "confirmed" if one.confirmed_at else "not confirmed"
        out.print(f"  {one.address}: {known}{', mail goes here' if one.is_first else ''}", markup=False)
    if found.second_factor_since:
        out.print(
            f"Second factor since {moment(found.second_factor_since)}; {found.recovery_codes_left} recovery codes left"
        )
    else:
        out.print("No second factor: openlatch factor set-up")
    out.print(
        f"Times in {found.time_zone or 'the organisation’s time zone'}; no mail about: "
        f"{', '.join(found.no_mail) or 'nothing'}"
    )
    show_rows(found.passkeys, PASSKEYS, "table", "No passkeys: add one in the console, on My sign-in.")
    show_rows(found.sessions, SESSIONS, "table", "No browser is signed in.")
    show_rows(found.tokens, TOKENS, "table", "There are no tokens.")


def _passkey(service: Client, name: str) -> schemas.PasskeyOf:
    rows = service.own_sign_in().passkeys
    found = [row for row in rows if name in (row.name, str(row.id))]
    if len(found) != 1:
        there = ", ".join(f"{row.name} ({row.id})" for row in found or rows) or "none"
        remedy = f"Name one of yours: {there}."
        if found:
            raise BadInput(f"Several of your passkeys are called {name!r}.", remedy)
        raise BadInput(f"None of your passkeys is called {name!r}.", remedy)
    return found[0]


@me.command("rename-passkey")
@click.argument("name")
@click.argument("new")
def me_rename_passkey(name: str, new: str) -> None:
    """Give one of your passkeys, by its NAME, a NEW name."""
    with session.client() as service:
        service.rename_passkey(_passkey(service, name).id, new)
    out.print(f"It is called {new} now.", markup=False)


@me.command("remove-passkey")
@click.argument("name")
@consent_options
def me_remove_passkey(name: str) -> None:
    """Remove one of your passkeys, by its NAME. It does not sign you in any more."""
    with session.client() as service:
        row = _passkey(service, name)
        used = f"used {moment(row.last_used_at)}" if row.last_used_at else "never used"
        go_on(f"Remove the passkey {row.name}, added {moment(row.made_at)}, {used}?")
        session.proving(service, lambda: service.remove_passkey(row.id))
    out.print("Removed. Remove it from the device as well, which still offers it.")


@me.command("set")
@click.option("--name", default=None, help="Your name.")
@click.option("--time-zone", default=None, help="The time zone that times are shown in; empty: the organisation's.")
@click.option("--locale", default=None, help="The language of mail, and in which dates are written, like en-GB.")
@click.option("--no-mail", multiple=True, help="What you want no mail about; replaces all of them. See the guide.")
@click.option("--all-mail", is_flag=True, help="Get mail about everything again.")
def me_set(
    name: str | None, time_zone: str | None, locale: str | None, no_mail: tuple[str, ...], all_mail: bool
) -> None:
    """Set your name and how you are notified; options left out stay unchanged."""
    with session.client() as service:
        held = service.own_sign_in()
        service.set_profile(
            schemas.Profile(
                name=name or held.name,
                time_zone=held.time_zone if time_zone is None else time_zone or None,
                locale=held.locale if locale is None else locale or None,
                no_mail=[] if all_mail else list(no_mail) or held.no_mail,
                wants_digest=held.wants_digest,
            )
        )
    out.print("Kept.")


@me.command("recovery-codes")
def me_recovery_codes() -> None:
    """Create ten recovery codes, each good for one sign-in. Earlier codes stop working."""
    with session.client() as service:
        codes = session.proving(service, service.make_recovery_codes)
    for code in codes:
        out.print(code, markup=False)
    out.print("They are shown only now. Keep them where you would look without your phone.")


@me.command("add-address")
@click.argument("address")
def me_add_address(address: str) -> None:
    """Add an address: a link is sent to it, which you have to open."""
    with session.client() as service:
        service.add_address(address)
    out.print(f"A link is on its way to {address}.", markup=False)


@me.command("use-address")
@click.argument("address")
def me_use_address(address: str) -> None:
    """Make another of your addresses the one for mail and for signing in."""
    with session.client() as service:
        session.proving(service, lambda: service.make_address_first(address))
    out.print(f"Mail goes to {address} from now on, and you sign in with it.", markup=False)


@me.command("end-session")
@click.argument("which", required=False)
@click.option("--others", is_flag=True, help="All of yours but the one that asks.")
def me_end_session(which: str | None, others: bool) -> None:
    """End one of your sessions here, WHICH by the end of its id, or all others."""
    if (which is None) != others:
        raise BadInput("One session, or --others.", "See: openlatch me show")
    with session.client() as service:
        if which is None:
            service.end_other_sessions()
        else:
            service.end_own_session(session.among(which, service.own_sign_in().sessions, "sessions", lambda _: []))
    out.print("Ended.")


def _write_token(found: schemas.Token) -> None:
    out.print(found.token, soft_wrap=True)
    out.print(f"It runs out {moment(found.expires_at)}.")


@me.command("make-token")
@click.argument("name")
@click.option("--scope", type=click.Choice(["read", "write"]), default="read", show_default=True)
@click.option("--days", type=click.IntRange(1, 365), default=90, show_default=True)
@output_option
def me_make_token(name: str, scope: schemas.Scope, days: int, output: str) -> None:
    """Create an API token for a program; it is shown only once."""
    with session.client() as service:
        found = session.proving(service, lambda: service.make_own_token(name, scope, days))
    show_one(found, output, lambda: _write_token(found))


@me.command("end-token")
@click.argument("which")
def me_end_token(which: str) -> None:
    """End one of your API tokens: WHICH by name, or by the end of its id."""
    with session.client() as service:
        service.end_token(session.among(which, service.own_sign_in().tokens, "tokens", lambda one: [one.name]))
    out.print("Ended.")


renamed.keep(invitation, "again", "resend")

COMMANDS: dict[str, click.Command] = {"sign-in": sign_in, "invitation": invitation, "password": password, "me": me}
