"""Webhooks: receivers of what is journalled."""

from __future__ import annotations

import click

from openlatch import schemas
from openlatch.cli import session
from openlatch.cli.consent import consent_options, go_on
from openlatch.cli.output import Column, Word, moment, out, output_option, short, show_one, show_rows, table_options
from openlatch.client import Client
from openlatch.errors import BadInput
from openlatch.languages.terminal import say


def _state(row: schemas.WebhookOf) -> str:
    if row.paused_at is not None:
        return say(f"paused {moment(row.paused_at)}")
    return say(f"takes nothing since {moment(row.failing_since)}" if row.failing_since else "in use")


WEBHOOKS: list[Column] = [
    ("Name", lambda r: r.name),
    ("State", _state),
    ("Waiting", lambda r: r.waiting or None),
    ("Given up", lambda r: r.given_up or None),
    ("Told", lambda r: ", ".join(r.actions) or Word("everything")),
    ("URL", lambda r: r.url),
]
DELIVERIES: list[Column] = [
    ("Position", lambda r: Word("test") if r.position is None else r.position),
    ("State", lambda r: Word(r.state)),
    ("Tries", lambda r: r.tries),
    ("Last answer", lambda r: r.answer),
    ("Next try", lambda r: moment(r.next_try_at)),
    ("ID", lambda r: short(r.id)),
]


@click.group()
def webhook() -> None:
    """Receivers of what is journalled."""


@webhook.command("list")
@table_options
def webhook_list(output: str) -> None:
    """List the webhooks."""
    with session.client() as service:
        show_rows(service.webhooks(), WEBHOOKS, output, "There are no webhooks: openlatch webhook add")


def _find(service: Client, name: str) -> schemas.WebhookOf:
    fits = [row for row in service.webhooks() if name.lower() in (row.name.lower(), str(row.id))]
    if len(fits) != 1:
        raise BadInput(f"{len(fits) or 'None'} of the webhooks fit {name!r}.", "Look at: openlatch webhook list")
    return fits[0]


def _write_secret(made: schemas.WebhookMade) -> None:
    out.print(f"Key id  {made.webhook.key_id}", markup=False)
    out.print(f"Secret  {made.secret}", markup=False)
    out.print("The secret is shown only now. Messages are signed by it (HMAC-SHA256, RFC 9421).")


@webhook.command("add")
@click.argument("name")
@click.argument("url")
@click.option("--action", "actions", multiple=True, help="An action such as grant.given, or a kind such as revocation.")
@output_option
def webhook_add(name: str, url: str, actions: tuple[str, ...], output: str) -> None:
    """Tell a receiver at URL, called NAME, what is journalled from now on: everything, or some actions."""
    wish = schemas.SetWebhook(name=name, url=url, actions=list(actions))
    with session.client() as service:
        made = session.proving(service, lambda: service.add_webhook(wish))
    show_one(made, output, lambda: _write_secret(made))


@webhook.command("change")
@click.argument("name")
@click.option("--name", "new_name", default=None, help="Another name.")
@click.option("--url", default=None, help="Another URL.")
@click.option("--action", "actions", multiple=True, help="Which actions it is notified of; replaces all of them.")
@click.option("--everything", is_flag=True, help="Tell it everything.")
@output_option
def webhook_change(
    name: str, new_name: str | None, url: str | None, actions: tuple[str, ...], everything: bool, output: str
) -> None:
    """Change a webhook, by its NAME; options left out stay unchanged."""
    with session.client() as service:
        held = _find(service, name)
        told = [] if everything else list(actions) or held.actions
        wish = schemas.SetWebhook(name=new_name or held.name, url=url or held.url, actions=told)
        found = session.proving(service, lambda: service.change_webhook(held.id, wish, held.version))
    show_one(found, output, lambda: out.print(f"{found.name} is changed.", markup=False))


@webhook.command("remove")
@click.argument("name")
@consent_options
def webhook_remove(name: str) -> None:
    """Remove a webhook, by its NAME, with what waits for its receiver."""
    with session.client() as service:
        found = _find(service, name)
        go_on(f"Remove {found.name}, with the events that wait for it ({found.waiting})?")
        session.proving(service, lambda: service.remove_webhook(found.id))
    out.print(f"{found.name} is removed.", markup=False)


@webhook.command("pause")
@click.argument("name")
def webhook_pause(name: str) -> None:
    """Pause a webhook, by its NAME; what is journalled meanwhile is delivered when it resumes."""
    with session.client() as service:
        found = _find(service, name)
        session.proving(service, lambda: service.pause_webhook(found.id))
    out.print(f"{found.name} is paused.", markup=False)


@webhook.command("resume")
@click.argument("name")
def webhook_resume(name: str) -> None:
    """Resume a paused webhook, by its NAME, where it was paused."""
    with session.client() as service:
        found = _find(service, name)
        session.proving(service, lambda: service.pause_webhook(found.id, False))
    out.print(f"{found.name} goes on.", markup=False)


@webhook.command("secret")
@click.argument("name")
@click.option(
    "--hours", type=click.IntRange(0, 720), default=24, show_default=True, help="How long the old one counts."
)
@output_option
def webhook_secret(name: str, hours: int, output: str) -> None:
    """Give a webhook, by its NAME, a new secret; the one before signs as well for some hours."""
    with session.client() as service:
        found = _find(service, name)
        made = session.proving(service, lambda: service.rotate_webhook_secret(found.id, hours))
    show_one(made, output, lambda: _write_secret(made))


@webhook.command("test")
@click.argument("name")
def webhook_test(name: str) -> None:
    """Send a webhook, by its NAME, a test; what comes of it is among its deliveries."""
    with session.client() as service:
        found = _find(service, name)
        session.proving(service, lambda: service.test_webhook(found.id))
    out.print(f"A test is sent. See: openlatch webhook deliveries {found.name!r}", markup=False)


@webhook.command("deliveries")
@click.argument("name")
@click.option("--state", type=click.Choice(["waiting", "delivered", "given_up"]), default=None, help="Only these.")
@table_options
def webhook_deliveries(name: str, state: schemas.DeliveryState | None, output: str) -> None:
    """List the latest deliveries of a webhook, by its NAME."""
    with session.client() as service:
        show_rows(service.deliveries(_find(service, name).id, state), DELIVERIES, output, "There are no deliveries.")


@webhook.command("resend")
@click.argument("name")
def webhook_resend(name: str) -> None:
    """Send what was given up for a webhook, by its NAME, again."""
    with session.client() as service:
        found = _find(service, name)
        count = session.proving(service, lambda: service.send_again(found.id))
    out.print(f"{count} {'delivery is' if count == 1 else 'deliveries are'} sent again.")


COMMANDS: dict[str, click.Command] = {"webhook": webhook}
