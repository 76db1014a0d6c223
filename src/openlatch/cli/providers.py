"""Identity providers by which people sign in, and directories that keep them."""

from __future__ import annotations

import click

from openlatch import schemas
from openlatch.cli import session
from openlatch.cli.consent import consent_options, go_on
from openlatch.cli.output import Column, Word, moment, out, output_option, show_one, show_rows, table_options
from openlatch.client import Client
from openlatch.errors import BadInput

PROVIDERS: list[Column] = [
    ("Name", lambda r: r.name),
    ("Issuer", lambda r: r.issuer),
    ("Client", lambda r: r.client_id),
    ("Roles by", lambda r: r.roles_claim or None),
    ("Second factor", lambda r: ", ".join([*r.acr, *r.amr]) or Word("not asked for")),
    ("People", lambda r: r.people),
]


@click.group()
def provider() -> None:
    """Identity providers by which people sign in (OpenID Connect)."""


@provider.command("list")
@table_options
def provider_list(output: str) -> None:
    """List the identity providers."""
    with session.client() as service:
        show_rows(service.identity_providers(), PROVIDERS, output, "People sign in with their passwords alone.")


def _find(service: Client, name: str) -> schemas.ProviderOf:
    rows = service.identity_providers()
    fits = [row for row in rows if name.lower() in (row.name.lower(), str(row.id))]
    if len(fits) != 1:
        raise BadInput(f"{len(fits) or 'None'} of the providers fit {name!r}.", "Look at: openlatch provider list")
    return fits[0]


def _write(found: schemas.ProviderOf) -> None:
    out.print(f"People sign in by {found.name} at {found.start}", markup=False)
    out.print("Register there:", markup=False)
    out.print(f"  redirect URI         {found.callback}", markup=False)
    out.print(f"  back-channel logout  {found.back_channel}", markup=False)


def _roles(given: tuple[str, ...]) -> dict[str, str]:
    pairs = [one.rpartition("=") for one in given]
    wrong = [one for one, (value, _, role) in zip(given, pairs, strict=True) if not value or not role]
    if wrong:
        raise click.BadParameter(
            f"{wrong[0]!r} is no role; write one as latch-admins=administrator", param_hint="--role"
        )
    return {value: role for value, _, role in pairs}


@provider.command("add")
@click.argument("name")
@click.option("--issuer", required=True, help="Its address, as https://login.example.org")
@click.option("--client", "client_id", required=True, help="What Open Latch is called there.")
@click.option(
    "--secret", default="", envvar="OPENLATCH_PROVIDER_SECRET", help="Its secret there; better by the variable."
)
@click.option("--address-claim", default="email", show_default=True, help="The claim with somebody's address.")
@click.option("--roles-claim", default="", help="The claim that says their role, as groups.")
@click.option("--role", "roles", multiple=True, metavar="VALUE=ROLE", help="A value of it, and the role it stands for.")
@click.option("--acr", multiple=True, help="An authentication context that counts as a second factor.")
@click.option("--amr", multiple=True, help="A method that counts as a second factor, as otp or hwk.")
@output_option
def provider_add(
    name: str,
    issuer: str,
    client_id: str,
    secret: str,
    address_claim: str,
    roles_claim: str,
    roles: tuple[str, ...],
    acr: tuple[str, ...],
    amr: tuple[str, ...],
    output: str,
) -> None:
    """Let people sign in by an identity provider called NAME; under a name that there is, change it.

    Whoever it vouches for gets in as the person of the register with that address.
    """
    with session.client() as service:
        wish = schemas.SetProvider.model_validate(
            {
                "name": name,
                "issuer": issuer,
                "client_id": client_id,
                "client_secret": secret or None,
                "address_claim": address_claim,
                "roles_claim": roles_claim,
                "roles": _roles(roles),
                "acr": list(acr),
                "amr": list(amr),
            }
        )
        known = [row for row in service.identity_providers() if row.name == name]

        def call() -> schemas.ProviderOf:
            if known:
                return service.change_provider(known[0].id, wish, known[0].version)
            return service.add_provider(wish)

        found = session.proving(service, call)
    show_one(found, output, lambda: _write(found))


@provider.command("remove")
@click.argument("name")
@consent_options
def provider_remove(name: str) -> None:
    """Remove an identity provider: nobody signs in by it any more, and sessions that it has opened end."""
    with session.client() as service:
        found = _find(service, name)
        people = f"{found.people} {'person has' if found.people == 1 else 'people have'} signed in by it"
        go_on(f"Remove {found.name}? {people}; they need a password from then on.")
        session.proving(service, lambda: service.remove_provider(found.id))
    out.print(f"{found.name} is removed.", markup=False)


@click.group()
def directory() -> None:
    """Directories that keep people and teams here (SCIM 2.0)."""


@directory.command("token")
@click.argument("name")
@click.option(
    "--days", type=click.IntRange(1, 730), default=365, show_default=True, help="After how many days it ends."
)
@output_option
def directory_token(name: str, days: int, output: str) -> None:
    """Make a token for the directory NAME. It is shown only now; end it with openlatch me end-token."""
    with session.client() as service:
        found = session.proving(service, lambda: service.make_directory_token(name, days))
        where = session.load().url

    def write() -> None:
        out.print(f"Address: {where}/scim/v2", markup=False)
        out.print(f"Token:   {found.token}", markup=False)
        out.print(f"It ends on {moment(found.expires_at)}, or when you do not administer any more.", markup=False)

    show_one(found, output, write)


COMMANDS: dict[str, click.Command] = {"provider": provider, "directory": directory}
