"""Latches, levels, your own access, and switching into accounts."""

from __future__ import annotations

import json
from collections.abc import Callable
from datetime import UTC, datetime
from uuid import UUID

import click
from rich.text import Text

from openlatch import schemas
from openlatch.cli import session
from openlatch.cli.consent import consent_options, go_on, only_preview, preview_option, reason_option
from openlatch.cli.offers import LINES
from openlatch.cli.output import (
    Column,
    Word,
    list_options,
    moment,
    out,
    output_option,
    reach,
    show_one,
    show_rows,
    table_options,
    write_end,
    yes,
)
from openlatch.cli.register import account, app, level, list_command, rows_of, team
from openlatch.client import Client
from openlatch.core.latches import LatchKind, LatchMode
from openlatch.core.vocabulary import GrantState
from openlatch.languages.terminal import say

LATCHES: list[Column] = [
    ("Latch", lambda r: r.kind),
    ("Mode", lambda r: Word(r.mode, "of its kind" if getattr(r, "of_kind", False) else None)),
    ("Asks for", lambda r: r.words),
    ("Broken by", lambda r: "; ".join(r.broken)),
]
EFFECTS: list[Column] = [
    ("Holder", lambda r: r.holder.name),
    ("Account", lambda r: r.account.name),
    ("Gains", lambda r: "; ".join(p.sentence for p in r.gains)),
    ("Loses", lambda r: "; ".join(p.sentence for p in r.loses)),
]
NOTICES: list[Column] = [
    ("When", lambda r: moment(r.at)),
    ("What", lambda r: r.sentence),
    ("Read", lambda r: yes(r.read_at is not None)),
]
RESOURCES: list[Column] = [
    ("Account", lambda r: r.account.name),
    ("Name", lambda r: r.name),
    ("Kind", lambda r: r.kind),
    ("Public", lambda r: yes(r.public)),
    ("Shared by", lambda r: r.holders),
]
GROUPS: list[Column] = [
    ("Account", lambda r: r.account.name),
    ("Name", lambda r: r.name),
    ("Resources in it", lambda r: r.resources),
]
VISITS: list[Column] = [
    ("Who", lambda r: r.person.name),
    ("Account", lambda r: r.account.name),
    ("On behalf of", lambda r: r.owner.name if r.owner else None),
    ("Began", lambda r: moment(r.began_at)),
    ("Ended", lambda r: Word(r.ended_as)),
]


@click.group()
def latch() -> None:
    """Latches: guards that a change may not break."""


@latch.command("list")
@click.argument("account_name")
@table_options
def latch_list(account_name: str, output: str) -> None:
    """List the latches of an account, with what breaks them."""
    with session.client() as service:
        rows = service.latches(session.find(service, "accounts", account_name))
    show_rows(rows, LATCHES, output, "")


@latch.command("set")
@click.argument("kind", type=click.Choice([str(kind) for kind in LatchKind]))
@click.argument("mode", type=click.Choice([str(mode) for mode in LatchMode]))
@click.option("--account", "account_name", default=None, help="On one account.")
@click.option("--account-kind", default=None, help="On all accounts of a kind.")
@click.option("--number", type=int, default=None, help="Of delegates, or of days.")
@click.option("--pair", nargs=2, default=None, help="The keys of two permissions.")
@preview_option
@output_option
def latch_set(
    kind: str,
    mode: str,
    account_name: str | None,
    account_kind: str | None,
    number: int | None,
    pair: tuple[str, str] | None,
    output: str,
) -> None:
    """Set a latch to off, warn or hold."""
    with session.client() as service:
        wish = schemas.SetLatch.model_validate(
            {
                "kind": kind,
                "mode": mode,
                "account": session.find(service, "accounts", account_name) if account_name else None,
                "account_kind": account_kind,
                "number": number,
                "pair": list(pair or ()),
            }
        )
        found = service.preview_latch(wish) if only_preview() else service.set_latch(wish)

    def write() -> None:
        out.print(Text(found.latch, style="bold"), "" if only_preview() else f"is set to {mode}")
        for row in found.broken:
            for breach in row.breaches:
                out.print(f"  {row.account.name}: {breach.fact}")
        if not found.broken:
            out.print("  Nothing breaks it.")

    show_one(found, output, write)


@level.command("compare")
@click.argument("first")
@click.argument("second")
@output_option
def level_compare(first: str, second: str, output: str) -> None:
    """Compare two levels."""
    with session.client() as service:
        found = service.compare_levels(session.find(service, "levels", first), session.find(service, "levels", second))

    def write() -> None:
        for title, rights in (
            ("Both", found.both),
            (f"Only {found.first.name}", found.first_only),
            (f"Only {found.second.name}", found.second_only),
        ):
            out.print(Text(title, style="bold"))
            for right in rights:
                out.print(f"  {right.sentence} ({reach(right.reach)})")
            if not rights:
                out.print("  nothing")

    show_one(found, output, write)


@level.command("make")
@click.argument("system")
@click.argument("key")
@click.option("--name", required=True, help="Its name.")
@click.option("--sentence", required=True, help="What it lets one do, in plain words.")
@click.option("--permission", "keys", multiple=True, help="The key of a permission that the system has.")
@click.option("--new", "new", nargs=3, multiple=True, help="A new permission: KEY SENTENCE REACH.")
@output_option
def level_make(
    system: str,
    key: str,
    name: str,
    sentence: str,
    keys: tuple[str, ...],
    new: tuple[tuple[str, str, str], ...],
    output: str,
) -> None:
    """Create a level in a system."""
    with session.client() as service:
        wish = schemas.MakeLevel.model_validate(
            {
                "system": session.find(service, "systems", system),
                "key": key,
                "name": name,
                "sentence": sentence,
                "keys": list(keys),
                "new": [{"key": k, "sentence": s, "reach": r} for k, s, r in new],
            }
        )
        found = service.make_level(wish)
    show_one(found, output, lambda: out.print(f"“{found.name}” permits {len(found.permissions)} things."))


@level.command("change")
@click.argument("name_or_id")
@click.option("--add", multiple=True, help="The key of a permission to add.")
@click.option("--drop", multiple=True, help="The key of a permission to take out.")
@click.option("--name", default=None, help="A new name.")
@click.option("--sentence", default=None, help="A new sentence.")
@consent_options
@output_option
def level_change(
    name_or_id: str,
    add: tuple[str, ...],
    drop: tuple[str, ...],
    name: str | None,
    sentence: str | None,
    output: str,
) -> None:
    """Change a level, for everybody who holds it."""
    with session.client() as service:
        ident = session.find(service, "levels", name_or_id)
        held = service.list("levels", filter=f'id eq "{ident}"').rows[0]
        keys = [p["key"] for p in held.permissions if p["key"] not in drop] + list(add)
        draft = schemas.LevelDraft(
            name=name or held.name, sentence=sentence or held.sentence, keys=list(dict.fromkeys(keys))
        )
        preview = service.preview_level(ident, draft)
        question = f"Change it: {preview.grows} gain, {preview.shrinks} lose?"
        go_on(question, lambda how: show_rows(preview.effects, EFFECTS, how, "Nobody's rights change."), output)
        found = session.proving(service, lambda: service.change_level(ident, draft, preview.fingerprint, held.version))
    show_one(found, output, lambda: out.print(f"“{found.name}” permits {len(found.permissions)} things now."))


@level.command("remove")
@click.argument("name_or_id")
@consent_options
def level_remove(name_or_id: str) -> None:
    """Remove a level to which nothing refers."""
    with session.client() as service:
        ident = session.find(service, "levels", name_or_id)
        go_on(f"Remove the level “{name_or_id}”?")
        service.remove_level(ident)
    out.print("Removed.")


@level.command("archive")
@click.argument("name_or_id")
@click.option("--back", is_flag=True, help="Take it out of the archive; then give its ID.")
def level_archive(name_or_id: str, back: bool) -> None:
    """Archive a level that no live grant gives."""
    with session.client() as service:
        ident = UUID(name_or_id) if back else session.find(service, "levels", name_or_id)
        service.archive_level(ident, not back)
    out.print("It can be chosen again." if back else "Archived.")


@level.command("permissions")
@click.argument("system")
@output_option
def level_permissions(system: str, output: str) -> None:
    """List the permissions of a system."""
    columns: list[Column] = [
        ("Key", lambda r: r.key),
        ("Reach", lambda r: reach(r.reach)),
        ("What it lets one do", lambda r: r.sentence),
    ]
    with session.client() as service:
        show_rows(service.permissions(session.find(service, "systems", system)), columns, output, "None.")


@click.command()
@output_option
def mine(output: str) -> None:
    """Show what you can reach, and who can reach your accounts."""
    with session.client() as service:
        found = service.mine()
    show_one(found, output, lambda: _write_mine(found))


def _write_mine(found: schemas.Mine) -> None:
    for waiting in found.offers:
        out.print(Text(f"Offered to you: {waiting.account.name}", style="bold"), waiting.words, str(waiting.id))
    out.print(Text(say("You can reach"), style="bold"))
    for path in found.reach:
        part = f", only {path.part}" if path.part else ""
        out.print(f"  {path.account.name}: {path.level}, {write_end(path)}{part}; {path.words}")
    if found.not_in_force:
        out.print(Text(say("Not in force"), style="bold"))
    for grant in found.not_in_force:
        part = f", only {grant.part}" if grant.part else ""
        out.print(f"  {grant.account.name}: {grant.level}, {write_end(grant)}{part}; {idle_in_words(grant)}")
    for own in found.mine:
        out.print(Text(say(f"Your {own.account.name} is reached by {len(own.holders)}"), style="bold"))
        for holder in own.holders:
            out.print(f"  {holder.name}: {', '.join(holder.levels)} ({reach(holder.reach)}), {write_end(holder)}")


def idle_in_words(grant: schemas.GrantRow) -> str:
    """Why a grant is not in force."""
    if grant.state != GrantState.ACTIVE:
        return str(grant.state)
    return f"begins {moment(grant.since)}" if grant.since and grant.since > datetime.now(UTC) else "gives nothing now"


def inside_in_words(there: schemas.InsideOf) -> str:
    """In which account somebody acts, for whom and until when."""
    owner = there.owner.name if there.owner else "nobody"
    return f"You are in {there.account.name}, on behalf of {owner}, {write_end(there)}."


@click.group()
def switch() -> None:
    """Switch into an account and out of it, to act on behalf of its owner."""


@switch.command("in")
@click.argument("account_name")
def enter(account_name: str) -> None:
    """Switch into an account, to act on behalf of its owner."""
    with session.client() as service:
        me = service.switch(session.find(service, "accounts", account_name))
    assert me.inside is not None
    out.print(inside_in_words(me.inside))
    for right in me.inside.rights:
        out.print(f"  {right}")


@switch.command("out")
def leave() -> None:
    """Switch out of the account."""
    with session.client() as service:
        service.switch_out()
    out.print("You are out again.")


@click.command("exchange")
@click.argument("account_name")
def exchange(account_name: str) -> None:
    """Get a short-lived token for a program to act in an account for you (RFC 8693)."""
    with session.client() as service:
        ident = session.find(service, "accounts", account_name)
        print(json.dumps(service.exchange(session.load().token, ident), indent=2))


@click.command()
@list_options
@click.option("--read", is_flag=True, help="Mark all as read.")
def notice(filter_: str, search: str, sort: str, limit: int, output: str, read: bool) -> None:
    """What you were told."""
    with session.client() as service:
        show_rows(rows_of(service, "notices", filter_, search, sort, limit), NOTICES, output, "Nothing.")
        if read:
            service.read_notices()


@account.command("hand-over")
@click.argument("name_or_id")
@click.option("--to", required=True, help="The new owner.")
@click.option("--keeps", default=None, help="The level that the old owner keeps.")
@click.option("--reason", default="", help="Why.")
@consent_options
def hand_over(name_or_id: str, to: str, keeps: str | None, reason: str) -> None:
    """Offer an account's ownership to somebody; nothing changes until they accept by the link sent to them."""
    with session.client() as service:
        ident = session.find(service, "accounts", name_or_id)
        person = session.find(service, "people", to)
        level_id = session.find(service, "levels", keeps) if keeps else None
        go_on(f"Offer the ownership of {name_or_id} to {to}?")
        found = session.proving(service, lambda: service.hand_over(ident, person, level_id, reason))
    out.print(f"Sent to {found.address}; it runs out {moment(found.runs_out_at)}.")


FilterFor = Callable[[Client, str, str | None], str]


def _disconnecting(group: click.Group, name: str, words: str, filter_for: FilterFor) -> None:
    """A command that ends links between apps and accounts: a change over a filter, like any other."""

    @group.command(name, help=words)
    @click.argument("name_or_id")
    @click.option("--account", "account_name", default=None, hidden=group is not app)
    @reason_option()
    @consent_options
    @output_option
    def command(name_or_id: str, account_name: str | None, reason: str, output: str) -> int:
        with session.client() as service:
            written = filter_for(service, name_or_id, account_name)
            wish = schemas.ChangeWish(kind="end", filter=written, reason=reason)
            preview = service.preview_change(wish)
            question = f"End {preview.changed} link{'s' * (preview.changed != 1)}?"
            go_on(question, lambda how: show_rows(preview.lines, LINES, how, "Nothing is linked."), output)
            wish = wish.model_copy(update={"fingerprint": preview.fingerprint})
            found = session.proving(service, lambda: service.change(wish))
        show_rows(found.lines, LINES, output, "")
        return 0 if all(line.refused is None for line in found.lines) else 4


def _app_links(service: Client, name: str, account_name: str | None) -> str:
    written = f'holder.id eq "{session.find(service, "apps", name)}"'
    if account_name:
        written += f' and account.id eq "{session.find(service, "accounts", account_name)}"'
    return written


def _account_apps(service: Client, name: str, account_name: str | None) -> str:
    return f'account.id eq "{session.find(service, "accounts", name)}" and holder.kind eq "app"'


def _team_grants(service: Client, name: str, account_name: str | None) -> str:
    return f'holder.id eq "{session.find(service, "teams", name)}"'


_disconnecting(app, "disconnect", "Disconnect an app from all accounts, or from one (--account).", _app_links)
_disconnecting(account, "disconnect-apps", "Disconnect an account from all apps.", _account_apps)
_disconnecting(team, "end-access", "End all access that a team holds.", _team_grants)


@click.group()
def resource() -> None:
    """Parts of accounts that can be shared alone."""


@click.group()
def visit() -> None:
    """Who was switched into which account."""


@click.group()
def factor() -> None:
    """Your second factor."""


@factor.command("set-up")
def factor_set_up() -> None:
    """Set up an app that shows codes (RFC 6238)."""
    with session.client() as service:
        found = session.proving(service, service.begin_factor)
        out.print(f"Give this secret to the app: {found.secret}")
        out.print(f"or open this address with it: {found.address}")
        service.confirm_factor(click.prompt(say("The code that it shows now")))
    out.print("From now on a code is asked for at every sign-in.")


@factor.command("remove")
def factor_remove() -> None:
    """Do without it."""
    with session.client() as service:
        session.proving(service, service.remove_factor)
    out.print("No code is asked for any more.")


resource.add_command(list_command("resources", RESOURCES, "There are no resources."))
visit.add_command(list_command("visits", VISITS, "Nobody switched into anything."))


COMMANDS: dict[str, click.Command] = {
    "latch": latch,
    "level": level,
    "my-access": mine,
    "switch": switch,
    "exchange": exchange,
    "notice": notice,
    "account": account,
    "app": app,
    "team": team,
    "resource": resource,
    "visit": visit,
    "factor": factor,
}
