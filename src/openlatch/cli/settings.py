"""Settings for giving access: of an account, a team, the organisation, and yourself."""

from __future__ import annotations

import click

from openlatch import schemas
from openlatch.cli import access, latches, session
from openlatch.cli.output import Word, out, output_option, show_one
from openlatch.cli.register import account, team

_NEEDS = click.option(
    "--needs",
    multiple=True,
    type=click.Choice(["confirmed_address", "second_factor"]),
    help="What people need before they can accept; left out, nothing.",
)


@account.command("set-giving")
@click.argument("name_or_id")
@click.option("--emergency-hours", type=click.IntRange(1, 168), default=None, help="Left out, it opens to nobody.")
@_NEEDS
def account_set_giving(name_or_id: str, emergency_hours: int | None, needs: tuple[str, ...]) -> None:
    """Set how access to an account is given: in an emergency, and what people need."""
    with session.client() as service:
        found = service.account(session.find(service, "accounts", name_or_id))
        service.set_account(found.id, emergency_hours, needs, found.version)
    out.print(
        f"{found.name} opens for {emergency_hours} hours in an emergency."
        if emergency_hours
        else f"{found.name} opens to nobody in an emergency."
    )
    out.print("To accept, people need:", Word(*needs).said() or "nothing")


@team.command("set-speaker")
@click.argument("name_or_id")
@click.option("--person", default=None, help="Who speaks for it; left out, nobody.")
def team_set_speaker(name_or_id: str, person: str | None) -> None:
    """Set who answers offers to a team."""
    with session.client() as service:
        speaker = session.find(service, "people", person) if person else None
        found = service.set_speaker(session.find(service, "teams", name_or_id), speaker)
    out.print(f"{found.speaker.name if found.speaker else 'Nobody'} speaks for {found.name}.")


@click.group()
def settings() -> None:
    """Settings of the organisation."""


@settings.command("show")
@output_option
def settings_show(output: str) -> None:
    """Show the settings."""
    with session.client() as service:
        found = service.settings()
    show_one(found, output, lambda: _write(found))


@settings.command("set")
@click.option("--offer-hours", type=int, default=None, help="For how long an offer stands.")
@click.option("--inside", "domains", multiple=True, help="A domain whose addresses are inside; replaces all of them.")
@_NEEDS
@click.option(
    "--auditor",
    "auditors",
    multiple=True,
    help="An address that signed heads of the journal are mailed to; replaces all of them.",
)
@click.option(
    "--remind",
    "remind",
    multiple=True,
    type=click.IntRange(1, 90),
    help="So many days before access ends, people are notified; replaces all of them.",
)
@click.option(
    "--keep-left",
    type=click.IntRange(0, 240),
    default=None,
    help="Months after leaving before people are erased; 0 never.",
)
@click.option(
    "--when-deactivated",
    type=click.Choice(["ask", "at_once"]),
    default=None,
    help="What happens to somebody's access when a directory deactivates them.",
)
@output_option
def settings_set(
    offer_hours: int | None,
    domains: tuple[str, ...],
    needs: tuple[str, ...],
    auditors: tuple[str, ...],
    remind: tuple[int, ...],
    keep_left: int | None,
    when_deactivated: str | None,
    output: str,
) -> None:
    """Change settings; options left out stay unchanged, except --needs."""
    with session.client() as service:
        held = service.settings()
        wish = schemas.SetSettings.model_validate(
            {
                "offer_hours": offer_hours or held.offer_hours,
                "inside_domains": list(domains) or held.inside_domains,
                "prerequisites": list(needs),
                "auditors": list(auditors) or None,
                "remind_days": list(remind) or None,
                "keep_left_months": keep_left,
                "when_deactivated": when_deactivated,
            }
        )
        found = service.set_settings(wish)
    show_one(found, output, lambda: _write(found))


def _write(found: schemas.Settings) -> None:
    out.print(f"Offers stand for {found.offer_hours} hours.")
    out.print("Inside:", ", ".join(found.inside_domains) or "no domain")
    out.print(f"Signed heads of the journal are mailed to: {', '.join(found.auditors) or 'nobody'}")
    days = ", ".join(map(str, found.remind_days))
    none = "Nobody is notified before access ends."
    out.print(f"People are notified {days} days before access ends." if days else none)
    months = found.keep_left_months
    out.print(f"Who left is erased after {months} months." if months else "Nobody who left is erased by itself.")
    out.print(
        "When a directory deactivates somebody, all their access ends at once."
        if found.when_deactivated == "at_once"
        else "When a directory deactivates somebody, administrators decide about their access."
    )
    out.print("To accept, everybody needs:", Word(*found.prerequisites).said() or "nothing")


@click.group("me")
def me() -> None:
    """Your settings."""


@me.command("offers")
@click.argument("how", type=click.Choice(["take", "refuse"]))
def me_offers(how: str) -> None:
    """Allow or refuse offers to you."""
    with session.client() as service:
        service.refuse_offers(how == "refuse")
    out.print("Nobody can send you offers." if how == "refuse" else "You can be sent offers.")


@me.command("letter")
@click.argument("how", type=click.Choice(["weekly", "never"]))
def me_letter(how: str) -> None:
    """Turn the weekly letter about flags on or off."""
    with session.client() as service:
        service.want_digest(how == "weekly")
    out.print("It comes on Mondays, when something changed." if how == "weekly" else "It does not come any more.")


@me.command("confirm-address")
def me_confirm_address() -> None:
    """Request a link that confirms your address."""
    with session.client() as service:
        service.ask_for_address_proof()
    out.print("A link is on its way to your address.")


# The groups with what other modules put into them, too.
COMMANDS: dict[str, click.Command] = {**access.COMMANDS, **latches.COMMANDS, "settings": settings, "me": me}
