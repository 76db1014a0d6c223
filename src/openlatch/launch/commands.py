"""The commands that run the service itself."""

from __future__ import annotations

import json

import click
from cryptography.fernet import Fernet

from openlatch.launch.settings import Settings


@click.command()
def serve() -> None:
    """Serve the API and the console until told to stop."""
    from openlatch.launch import serving

    serving.serve(Settings.load())


@click.command()
def worker() -> None:
    """Carry out revocations, read systems and evaluate rules in the background, until told to stop."""
    from openlatch.launch import serving

    serving.work(Settings.load())


@click.command()
@click.option(
    "--app-password", envvar="OPENLATCH_APP_PASSWORD", required=True, help="The password of the service's role."
)
def migrate(app_password: str) -> None:
    """Bring the database up to date, as its owner."""
    from openlatch.store.migrate import migrate as carry_out

    carry_out(Settings.load().require("owner_database_url").owner_database_url, app_password)
    click.echo("The database is up to date.")


@click.command("new-key")
def new_key() -> None:
    """Make a key for the secrets of systems."""
    click.echo(Fernet.generate_key().decode())


@click.command()
@click.argument("name")
@click.argument("slug")
@click.option("--time-zone", default="UTC", show_default=True, help="As in Europe/London.")
@click.option("--administrator", required=True, help="The administrator's name.")
@click.option("--address", required=True, help="Their e-mail address, to sign in with.")
@click.password_option(envvar="OPENLATCH_PASSWORD", help="Their password, at least 12 characters.")
def organisation(name: str, slug: str, time_zone: str, administrator: str, address: str, password: str) -> None:
    """Make an organisation called NAME with its first administrator."""
    from openlatch.launch import serving
    from openlatch.service import signing_in

    service = serving.assemble(Settings.load())
    signing_in.make_organisation(service, name, slug, time_zone, administrator, address, password)
    click.echo(f"Made {name}. {administrator} can sign in as {address}.")


@click.command()
@click.argument("slug")
@click.argument("name")
@click.option("--key", default=None, help="The key that files name it by; left out, its name.")
@click.option("--host", required=True, help="The server's address.")
@click.option("--port", default=5432, show_default=True, help="The server's port.")
@click.option("--database", required=True, help="A database on it.")
@click.option("--user", required=True, help="Open Latch's login there.")
@click.option("--app-prefix", default="app_", show_default=True, help="Logins that begin with it are apps.")
@click.password_option(envvar="OPENLATCH_SYSTEM_PASSWORD", confirmation_prompt=False, help="That login's password.")
def connect(
    slug: str,
    name: str,
    key: str | None,
    host: str,
    port: int,
    database: str,
    user: str,
    app_prefix: str,
    password: str,
) -> None:
    """Connect the PostgreSQL server NAME to the organisation SLUG. It is read before it is stored."""
    from openlatch.adapters import Reading
    from openlatch.adapters.postgresql import PostgresqlAdapter
    from openlatch.launch import serving
    from openlatch.service import signing_in, systems

    settings = {"host": host, "port": port, "database": database, "user": user, "app_prefix": app_prefix}
    reading = Reading.of(PostgresqlAdapter(settings, password).read())
    service = serving.assemble(Settings.load())
    with service.unit(signing_in.service_viewer(service, slug)) as unit:
        system = systems.connect(unit, key or name, name, "postgresql", settings, password)
        unit.wake("read_system", system=system.id)
    click.echo(json.dumps({"accounts": len(reading.accounts), "grants": len(reading.holdings)}))


@click.command()
@click.option("--reset", is_flag=True, help="Start over.")
@click.option("--port", default=8620, show_default=True, help="The port to serve on, if it is free.")
def demo(reset: bool, port: int) -> None:
    """Start everything with the demo organisation, in the foreground."""
    from openlatch.launch.demo import run

    run(reset, port)


COMMANDS: dict[str, click.Command] = {
    "serve": serve,
    "worker": worker,
    "migrate": migrate,
    "new-key": new_key,
    "organisation": organisation,
    "connect": connect,
    "demo": demo,
}
