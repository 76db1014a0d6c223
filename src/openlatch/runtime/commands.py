"""The commands that run the service itself. Each imports what it needs when it is called, so that help is quick."""

from __future__ import annotations

import json
from pathlib import Path

import click

from openlatch.adapters import ADAPTERS, Reading, class_of
from openlatch.errors import BadInput
from openlatch.imports import many_imports
from openlatch.languages.terminal import say
from openlatch.runtime.settings import Settings


@click.command()
def serve() -> None:
    """Serve the API and the console until stopped."""
    with many_imports():
        from openlatch.runtime import servers

    servers.serve(Settings.load())


@click.command()
def worker() -> None:
    """Carry out revocations, read systems and evaluate rules in the background, until stopped."""
    with many_imports():
        from openlatch.runtime import assembly

    assembly.work(Settings.load())


@click.command()
@click.option(
    "--app-password", envvar="OPENLATCH_APP_PASSWORD", required=True, help="The password of the role openlatch_app."
)
@click.option("--web-password", envvar="OPENLATCH_WEB_PASSWORD", default="", help="That of openlatch_web.")
@click.option("--worker-password", envvar="OPENLATCH_WORKER_PASSWORD", default="", help="That of openlatch_worker.")
def migrate(app_password: str, web_password: str, worker_password: str) -> None:
    """Bring the database up to date, as its owner."""
    from openlatch.store.migrate import Passwords
    from openlatch.store.migrate import migrate as carry_out

    url = Settings.load().require("owner_database_url").owner_database_url
    carry_out(url, Passwords(app_password, web_password, worker_password))
    click.echo(say("The database is up to date."))


@click.command("new-key")
def new_key() -> None:
    """Make a key: each of secret_key, systems_key and evidence_key takes one of its own."""
    from cryptography.fernet import Fernet

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
    from openlatch.runtime import assembly
    from openlatch.service.identity import authentication

    service = assembly.assemble(Settings.load())
    authentication.make_organisation(service, name, slug, time_zone, administrator, address, password)
    click.echo(say(f"Made {name}. {administrator} can sign in as {address}."))


@click.command()
@click.argument("slug")
@click.argument("name")
@click.option("--kind", type=click.Choice(list(ADAPTERS)), default="postgresql", show_default=True, help="What it is.")
@click.option("--key", default=None, help="The key that files name it by; left out, its name.")
@click.option("--set", "given", multiple=True, metavar="NAME=VALUE", help="How it is reached; repeat it.")
@click.option("--password", envvar="OPENLATCH_SYSTEM_PASSWORD", help="The password or key of Open Latch's login.")
def connect(slug: str, name: str, kind: str, key: str | None, given: tuple[str, ...], password: str | None) -> None:
    """Connect the system NAME to the organisation SLUG. It is tried before it is stored, and read."""
    settings = _settings(kind, given)
    if password is None:
        password = click.prompt("Password", hide_input=True) if class_of(kind).can.secret else ""
    adapter = ADAPTERS[kind](settings, password)
    adapter.check()
    reading = Reading.of(adapter.read())
    # The larger part of the program is loaded when the system has answered.
    from openlatch.runtime import assembly
    from openlatch.service import connections
    from openlatch.service.identity import authentication

    service = assembly.assemble(Settings.load())
    connections.connect(
        service, authentication.service_viewer(service, slug), key or name, name, kind, settings, password
    )
    click.echo(json.dumps({"accounts": len(reading.accounts), "grants": len(reading.holdings)}))


def _settings(kind: str, given: tuple[str, ...]) -> dict[str, str | int]:
    """The settings of a system, with defaults for those left out. UsageError names what is missing."""
    taken = {setting.name: setting for setting in class_of(kind).settings_taken}
    told = dict(pair.partition("=")[::2] for pair in given)
    for name, value in told.items():
        if name in taken and isinstance(taken[name].usual, int) and not value.isdigit():
            raise click.UsageError(f"{name} has to be a whole number, and is {value!r}.")
    settings: dict[str, str | int] = {}
    for name, setting in taken.items():
        if name in told:
            settings[name] = int(told[name]) if isinstance(setting.usual, int) else told[name]
        elif setting.usual is not None:
            settings[name] = setting.usual
    lacking = [name for name in taken if name not in settings]
    unknown = [name for name in told if name not in taken]
    if lacking or unknown:
        listed = "\n".join(f"  --set {name}=…  {setting.about}" for name, setting in taken.items())
        wrong = f"Missing: {', '.join(lacking)}." if lacking else f"There is no setting {', '.join(unknown)}."
        raise click.UsageError(f"{wrong} A system of the kind {kind} takes:\n{listed}")
    return settings


@click.command()
@click.option("--output", type=click.Choice(("text", "json")), default="text", show_default=True)
@click.pass_context
def doctor(context: click.Context, output: str) -> None:
    """Look whether the register holds together: journal, tree heads, versions, revocations, keys. Nothing is changed.

    With the worker's configuration, while it runs or not. Exit code 1: something is wrong; what is only late is listed.
    """
    from dataclasses import asdict

    from openlatch.runtime import assembly
    from openlatch.service import doctor as examination

    found = []
    for check in examination.examine(assembly.assemble(Settings.load())):
        found.append(check)
        if output == "text":
            state = "WRONG" if check.wrong else "late" if check.late else "ok"
            where = check.organisation or say("database")
            click.echo(f"{say(state):6} {where}: {say(check.what)} ({check.looked_at:,})")
            for words in (*check.wrong[: examination.MOST_NAMED], *check.late[: examination.MOST_NAMED]):
                click.echo(f"       {say(words)}")
            left = max(len(check.wrong) - examination.MOST_NAMED, 0)
            if left:
                click.echo(f"       {say(f'and {left} more')}")
    if output == "json":
        click.echo(json.dumps([asdict(check) for check in found], indent=2))
    context.exit(1 if any(check.wrong for check in found) else 0)


@click.command()
@click.option(
    "--keep-days",
    type=click.IntRange(0),
    default=730,
    show_default=True,
    help="What is older goes into the archive, by whole quarters of a year.",
)
def archive(keep_days: int) -> None:
    """Move old parts of the journal, and old versions of records, from the database into files of the archive.

    As the database's owner, with the worker's configuration, while the service runs. Every file is read back and
    checked, the journal's against a signed tree head, before anything is dropped. Repeat it to go on. Exit code 4:
    something could not be moved yet; it says why.
    """
    from datetime import UTC, datetime, timedelta

    from openlatch.runtime import assembly
    from openlatch.service.journal import archive as archiving
    from openlatch.store.database import owner_engine

    settings = Settings.load().require("owner_database_url")
    moved, stays = 0, False
    with owner_engine(settings.owner_database_url) as owner:
        before = datetime.now(UTC) - timedelta(days=keep_days)
        for done in archiving.move(assembly.assemble(settings), owner, before):
            moved += not done.why_not
            stays = stays or bool(done.why_not)
            if done.why_not:
                click.echo(say(f"{done.name} stays:"))
            elif done.rows:
                click.echo(say(f"{done.name} is in the archive: {done.rows} rows."))
            else:
                click.echo(say(f"{done.name} was empty."))
            for why in done.why_not:
                click.echo(f"  {say(why)}")
    if not moved and not stays:
        click.echo(say(f"Nothing ended more than {keep_days} days ago."))
    if stays:
        raise SystemExit(4)


@click.command()
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
def routes(file: Path) -> None:
    """Put the organisations of this service into FILE, by which a proxy finds the service of each."""
    from openlatch.runtime import assembly
    from openlatch.runtime import routes as by_organisation

    service = assembly.assemble(Settings.load().require("public_address"))
    count = by_organisation.enter(service, file)
    click.echo(say(f"{count} organisation{'s' * (count != 1)} at {service.address}."))


@click.command("host-program")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
def host_program(file: Path) -> None:
    """Write the program that answers on a remote host to FILE. It needs Python 3.11 there, and nothing else."""
    from openlatch.adapters.unix_host import package

    package.write(file)
    click.echo(say(f"Wrote {file}. Copy it to the host as /usr/local/sbin/open-latch-host, owned by root."))


@click.command()
@click.option("--reset", is_flag=True, help="Start over.")
@click.option("--port", default=8620, show_default=True, help="The port to serve on, if it is free.")
def demo(reset: bool, port: int) -> None:
    """Start everything with the demo organisation, in the foreground."""
    try:
        from openlatch.runtime.demo import run
    except ModuleNotFoundError as error:
        if error.name is None or error.name.startswith("openlatch"):
            raise
        raise BadInput(f"The demo needs {error.name}.", "Install Open Latch with its extra: openlatch[demo].") from None

    run(reset, port)


_DATA = click.option(
    "--data",
    type=click.Path(path_type=Path),
    default=Path("/var/lib/openlatch"),
    show_default=True,
    envvar="OPENLATCH_DATA",
    help="The folder for the database, keys, logs and backups.",
)


@click.command()
@_DATA
@click.option("--bind", default="127.0.0.1:8620", show_default=True, help="Where to listen.")
@click.option("--address", default="", help="Where people reach the console, as https://latch.example.org.")
@click.option("--trusted-proxies", type=click.IntRange(0, 5), default=0, help="How many proxies stand in front.")
@click.option("--unit", "wants_unit", is_flag=True, help="Print a systemd unit that does this, and do nothing.")
def run(data: Path, bind: str, address: str, trusted_proxies: int, wants_unit: bool) -> None:
    """Run the whole service from one folder: database, web process, worker, backups, logs."""
    from openlatch.runtime import own_server

    folder = data.resolve()
    if wants_unit:
        click.echo(own_server.unit(folder, bind, address, trusted_proxies), nl=False)
    else:
        own_server.run(folder, bind, address, trusted_proxies)


@click.command()
@_DATA
@click.argument("backup", type=click.Path(path_type=Path))
@click.confirmation_option(prompt="Put this backup in the place of what is there now?")
def restore(data: Path, backup: Path) -> None:
    """Restore a BACKUP into the folder, while nothing runs there."""
    from openlatch.runtime import own_server

    own_server.restore(data.resolve(), backup.resolve())


@click.command()
@_DATA
@click.option("--to", required=True, help="An empty database on your own server, as its owner: postgresql://…")
@click.option(
    "--configuration",
    type=click.Path(path_type=Path),
    required=True,
    help="The folder that the configurations of the processes are written to.",
)
def move(data: Path, to: str, configuration: Path) -> None:
    """Move the data of `openlatch run` to your own database server."""
    from openlatch.runtime import own_server

    own_server.move(data.resolve(), to, configuration.resolve())


COMMANDS: dict[str, click.Command] = {
    "run": run,
    "restore": restore,
    "move": move,
    "serve": serve,
    "worker": worker,
    "migrate": migrate,
    "new-key": new_key,
    "organisation": organisation,
    "connect": connect,
    "doctor": doctor,
    "archive": archive,
    "routes": routes,
    "host-program": host_program,
    "demo": demo,
}
