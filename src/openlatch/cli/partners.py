"""Links between partner organisations and their clients on one server."""

from __future__ import annotations

from collections.abc import Sequence
from uuid import UUID

import click

from openlatch import schemas
from openlatch.cli import session
from openlatch.cli.consent import consent_options, go_on
from openlatch.cli.output import Column, Word, moment, out, output_option, show_one, show_rows, table_options, yes
from openlatch.client import Client
from openlatch.errors import BadInput
from openlatch.languages.terminal import say

LINKS: list[Column] = [
    ("With", lambda r: r.other),
    ("We are", lambda r: Word(f"the {r.we_are}")),
    ("State", lambda r: Word(f"ended by {r.ended_by}" if r.ended_at else r.state, r.ended_at and moment(r.ended_at))),
    ("Offered", lambda r: Word(f"by {r.offered_by}", moment(r.offered_at))),
    ("Team", lambda r: r.team.name if r.team else None),
    ("People", lambda r: ", ".join(person.name for person in r.people)),
]
PEOPLE: list[Column] = [
    ("Name", lambda r: r.name),
    ("Address", lambda r: r.address),
    ("Comes in", lambda r: _comes_in(r)),
    ("Last here", lambda r: moment(r.last_seen_at) if r.last_seen_at else Word("not seen")),
    ("Into accounts", lambda r: r.visits),
]


def _comes_in(person: schemas.PartnerPerson) -> Word:
    once = f"once confirmed as {person.here.name}" if person.here else "held by a latch" if person.is_held else "no"
    return yes(person.is_in, once)


@click.group()
def partner() -> None:
    """Partner organisations on this server, whose people act for their clients."""


@partner.command("list")
@table_options
def partner_list(output: str) -> None:
    """Links with other organisations, as partner and as client."""
    with session.client() as service:
        show_rows(service.partners(), LINKS, output, "There is no link with another organisation.")


def _find(service: Client, other: str, is_ended: bool = False) -> schemas.PartnerLinkRow:
    rows = [row for row in service.partners() if is_ended or row.state != "ended"]
    fits = [row for row in rows if other.lower() in (row.other.lower(), str(row.id))]
    if len(fits) != 1:
        raise BadInput(f"{len(fits) or 'None'} of the links fit {other!r}.", "Look at: openlatch partner list")
    return fits[0]


@partner.command("show")
@click.argument("other")
@output_option
def partner_show(other: str, output: str) -> None:
    """Show a link: who acts by it and, for the client, who has been here."""
    with session.client() as service:
        _show(_find(service, other, is_ended=True), output)


def _show(found: schemas.PartnerLinkRow, output: str) -> None:
    def write() -> None:
        state = f"ended {moment(found.ended_at)} by {found.ended_by}" if found.ended_at else found.state
        out.print(f"{found.other}: {state}. We are the {found.we_are}.", markup=False)
        if found.we_are == "client":
            show_rows(found.people, PEOPLE, output, "None of their people acts here.")
        else:
            names = ", ".join(person.name for person in found.people) or "nobody"
            out.print(f"For them acts: {names}.", markup=False)

    show_one(found, output, write)


@partner.command("offer")
@click.argument("client")
@click.option("--person", "people", multiple=True, help="Who acts for them on our side. Repeat it for several.")
@click.option("--words", default="", help="What the client reads with the offer.")
@output_option
def partner_offer(client: str, people: Sequence[str], words: str, output: str) -> None:
    """Offer to act for a CLIENT, given by its short name."""
    with session.client() as service:
        ids = [session.find(service, "people", name) for name in people]
        _show(session.proving(service, lambda: service.offer_link(client, ids, words)), output)


@partner.command("accept")
@click.argument("other")
@click.option("--team", default=None, help="The partner team that they come into; left out, a new one.")
@output_option
def partner_accept(other: str, team: str | None, output: str) -> None:
    """Accept a partner: its people join one of our teams, and can use the team's access."""
    with session.client() as service:
        found = _find(service, other)
        ident = session.find(service, "teams", team) if team else None
        _show(session.proving(service, lambda: service.answer_partner(found.id, True, ident)), output)


@partner.command("decline")
@click.argument("other")
@output_option
def partner_decline(other: str, output: str) -> None:
    """Decline a partner."""
    with session.client() as service:
        found = _find(service, other)
        _show(session.proving(service, lambda: service.answer_partner(found.id, False)), output)


@partner.command("people")
@click.argument("other")
@click.option(
    "--person", "people", multiple=True, help="Who acts for them on our side from now on; nobody, if left out."
)
@output_option
def partner_people(other: str, people: Sequence[str], output: str) -> None:
    """Choose which of our people act for a client."""
    with session.client() as service:
        found = _find(service, other)
        ids = [session.find(service, "people", name) for name in people]
        _show(session.proving(service, lambda: service.set_partner_people(found.id, ids)), output)


@partner.command("confirm")
@click.argument("other")
@click.argument("person")
@output_option
def partner_confirm(other: str, person: str, output: str) -> None:
    """Confirm that one of our people (PERSON) is the partner's person with the same address."""
    with session.client() as service:
        found, ident = _find(service, other), session.find(service, "people", person)
        _show(session.proving(service, lambda: service.confirm_same(found.id, ident)), output)


@partner.command("end")
@click.argument("other")
@click.option("--reason", default="", help="Why.")
@consent_options
@output_option
def partner_end(other: str, reason: str, output: str) -> None:
    """End a link, from either side."""
    with session.client() as service:
        found = _find(service, other)
        told = service.preview_end_of_link(found.id)

        def write(how: str) -> None:
            show_one(told, how, lambda: out.print("\n".join(told.does), markup=False))

        go_on(f"End the link with {found.other}?", write, output)
        _show(session.proving(service, lambda: service.end_link(found.id, reason, told.fingerprint)), output)


@click.group()
def organisations() -> None:
    """Your sign-ins at several organisations."""


def _as_whom(row: schemas.MyOrganisation) -> str:
    return f"{row.person}, {Word(row.role, 'of a partner' if row.as_partner else None).said()}"


def _reached(row: schemas.MyOrganisation) -> str:
    counted = say(f"{row.accounts} account{'s' * (row.accounts != 1)}")
    return f"{counted}: {', '.join(row.levels)}" if row.levels else counted


OWN: list[Column] = [
    ("Organisation", lambda r: r.organisation.name),
    ("Short name", lambda r: r.slug),
    ("As", lambda r: _as_whom(r)),
    ("Reaches", lambda r: _reached(r)),
    ("", lambda r: Word("this one" if r.is_current else "closed" if r.is_closed else None)),
]


@organisations.command("list")
@table_options
def organisations_list(output: str) -> None:
    """List your linked sign-ins, with what you may do at each."""
    with session.client() as service:
        show_rows(service.organisations(), OWN, output, "")


@organisations.command("link")
@click.argument("short_name")
@click.option("--address", prompt=True, help="With which you sign in there.")
@click.option("--password", prompt=True, hide_input=True, help="Your password there.")
@click.option("--code", default="", help="The code of your second factor there.")
@output_option
def organisations_link(short_name: str, address: str, password: str, code: str, output: str) -> None:
    """Link your sign-in at another organisation, by its SHORT_NAME, so that you can switch in the console."""
    wish = schemas.LinkSignIn(address=address, password=password, code=code, organisation=short_name)
    with session.client() as service:
        show_rows(session.proving(service, lambda: service.link_sign_in(wish)), OWN, output, "")


@organisations.command("unlink")
@click.argument("short_name")
def organisations_unlink(short_name: str) -> None:
    """Unlink a sign-in elsewhere; it keeps working."""
    with session.client() as service:
        ident = _at(service.organisations(), short_name)
        service.unlink_sign_in(ident)
    out.print(f"Your sign-in at {short_name} belongs to this one no more.", markup=False)


def _at(rows: Sequence[schemas.MyOrganisation], short_name: str) -> UUID:
    for row in rows:
        if row.slug == short_name and not row.is_current:
            return row.sign_in
    raise BadInput(f"You have no linked sign-in at {short_name!r}.", "Look at: openlatch organisations list")


COMMANDS: dict[str, click.Command] = {"partner": partner, "organisations": organisations}
