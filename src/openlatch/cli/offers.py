"""Giving access: offers, requests, and changes to grants."""

from __future__ import annotations

import time
from datetime import date, datetime
from typing import Any
from uuid import UUID

import click
from rich.progress import Progress
from rich.text import Text

from openlatch import schemas
from openlatch.cli import renamed, session
from openlatch.cli.consent import consent_options, go_on, reason_option
from openlatch.cli.output import Column, Word, err, moment, out, output_option, reach, short, show_one, show_rows
from openlatch.cli.register import grant, list_command
from openlatch.client import CallFailed, Client
from openlatch.core.offers.wording import DAYS
from openlatch.core.vocabulary import HolderKind, OfferKind
from openlatch.errors import Conflict
from openlatch.json_values import JsonObject
from openlatch.languages.terminal import say

OFFERS: list[Column] = [
    ("ID", lambda r: short(r.id)),
    ("To", lambda r: say(f"{r.team} (by {r.person.name})") if r.team else r.person.name),
    ("Account", lambda r: r.account.name),
    ("Offers", lambda r: Word("ownership") if r.kind == OfferKind.OWNERSHIP else r.level),
    ("Reach", lambda r: reach(r.reach)),
    ("State", lambda r: Word(r.state)),
    ("Sent by", lambda r: r.sender.name if r.sender else None),
    ("Sent", lambda r: moment(r.sent_at)),
    ("Runs out", lambda r: moment(r.runs_out_at)),
]
REQUESTS: list[Column] = [
    ("ID", lambda r: short(r.id)),
    ("Who", lambda r: r.person["name"]),
    ("Account", lambda r: r.account.name if r.account else r.wanted or r.owner_address),
    ("Level", lambda r: r.level.name if r.level else None),
    ("Why", lambda r: r.reason),
    ("State", lambda r: Word(r.state, "emergency" if r.emergency else None)),
    ("Asked", lambda r: moment(r.asked_at)),
]
LINES: list[Column] = [
    ("Holder", lambda r: r.holder.name if r.holder else Word("not to be seen")),
    ("Account", lambda r: r.account.name if r.account else "–"),
    ("Level", lambda r: r.level),
    ("What", lambda r: r.does or f"{say('refused:')} {r.refused} {r.remedy}".strip()),
    ("Latches", lambda r: " ".join(f"{say(b.mode)}: {b.fact}" for b in r.latches)),
]


def window(given: date | datetime | None) -> JsonObject:
    """An end as calls take it."""
    if given is None:
        return {}
    if isinstance(given, datetime):
        return {"until": given}
    return {"last_day": given}


def hours(given: str | None) -> JsonObject | None:
    """Weekly hours from text like ``mon-fri 08:00-18:00``."""
    if given is None:
        return None
    names = [name[:3].lower() for name in DAYS]
    try:
        days, span = given.lower().split()
        begins, ends = span.split("-")
        found: list[int] = []
        for piece in days.split(","):
            first, _, last = piece.partition("-")
            found += range(names.index(first), names.index(last or first) + 1)
    except ValueError:
        raise click.BadParameter(f"{given!r} is not like: mon-fri 08:00-18:00", param_hint="--hours") from None
    return {"days": found, "begins": begins, "ends": ends}


def level_of(service: Client, account: UUID, name: str) -> UUID:
    """A level of an account's system, by its name or id."""
    system = service.account(account).system.id
    rows = service.list("levels", filter=f'system.id eq "{system}" and single eq false', limit=200).rows
    fits = [row for row in rows if name in (row.name, row.key, str(row.id))]
    if len(fits) != 1:
        known = ", ".join(row.name for row in rows)
        raise click.BadParameter(f"The account's system has no level {name!r}; it has: {known}.", param_hint="--level")
    ident: UUID = fits[0].id
    return ident


def parts_of(service: Client, account: UUID, names: tuple[str, ...]) -> list[UUID]:
    """Resources and groups of an account, by name or id."""
    known = service.account(account).parts
    found = []
    for name in names:
        fits = [part.id for part in known if name in (part.name, str(part.id))]
        if not fits:
            told = ", ".join(part.name for part in known) or "none"
            raise click.BadParameter(f"The account has no part {name!r}; it has: {told}.", param_hint="--part")
        found.append(fits[0])
    return found


@click.group()
def offer() -> None:
    """Offers of access, and answering them."""


offer.add_command(list_command("offers", OFFERS, "There is no offer."))


@offer.command("send")
@click.argument("account")
@click.option("--to", "to", multiple=True, required=True, help="An address, handle:NAME, team:NAME or person:NAME.")
@click.option("--name", default="", help="The name, for an address that is not known here.")
@click.option("--level", "levels", multiple=True, help="A level, by name.")
@click.option("--permission", "permissions", multiple=True, help="A single permission by key; KEY=DAY ends it alone.")
@click.option("--part", "parts", multiple=True, help="A resource or group; left out, the whole account.")
@click.option("--until", type=session.LastDay(), default=None, help="The last day, or an instant.")
@click.option("--since", type=session.Start(), default=None, help="When it begins.")
@click.option("--hours", "hours_", default=None, help="Weekly hours, as in: mon-fri 08:00-18:00")
@click.option("--reason", default="", help="Why.")
@consent_options
@output_option
def offer_send(
    account: str,
    to: tuple[str, ...],
    name: str,
    levels: tuple[str, ...],
    permissions: tuple[str, ...],
    parts: tuple[str, ...],
    until: date | datetime | None,
    since: date | datetime | None,
    hours_: str | None,
    reason: str,
    output: str,
) -> None:
    """Offer access to an account, to one or several people or teams."""
    with session.client() as service:
        ident = session.find(service, "accounts", account)
        proposal = schemas.OfferProposal.model_validate(
            {
                "account": ident,
                "to": [_to(service, one, name) for one in to],
                "levels": [level_of(service, ident, one) for one in levels],
                "permissions": [_single(one) for one in permissions],
                "parts": parts_of(service, ident, parts),
                "since": since,
                "hours": hours(hours_),
                "reason": reason,
                **window(until),
            }
        )
        preview = service.preview_offer(proposal)
        question = f"Send {preview.offers} offer{'s' * (preview.offers != 1)}?"
        go_on(question, lambda how: show_one(preview, how, lambda: _write_preview(preview)), output)
        sent = session.proving(service, lambda: service.send_offer(proposal, preview.fingerprint))
        show_rows([service.offer(one) for one in sent], OFFERS, output, "")


def _to(service: Client, given: str, name: str) -> JsonObject:
    kind, colon, rest = given.partition(":")
    if not colon or kind not in ("handle", "team", "person"):
        return {"address": given, "name": name}
    if kind == "handle":
        return {"handle": rest}
    return {kind: session.find(service, "teams" if kind == HolderKind.TEAM else "people", rest)}


def _single(given: str) -> JsonObject:
    key, equals, end = given.partition("=")
    return {
        "key": key,
        **(window(session.LastDay().convert(end, click.Option(["--permission"]), None)) if equals else {}),
    }


def _write_preview(found: schemas.OfferPreview) -> None:
    out.print(Text(f"{found.account.name}: {found.words}", style="bold"))
    for to in found.to:
        where = "inside" if to.inside else "outside"
        out.print(
            f"  {to.holder.name} <{to.address}>, {where}, {'known' if to.known else 'not known'} here"
            + (f", {to.people} people" if to.people != 1 else "")
        )
        for warning in to.warnings:
            out.print(Text(f"    {say('look twice:')} {warning}", style="bold"))
        out.print(f"    {say('reach:')} {reach(to.reach)}")
        for right in to.can:
            new = "" if any(r.key == right.key for r in to.adds) else f"  {say('(has it already)')}"
            _write_under("can:", f"{right.sentence}{new}")
        for right in to.cannot:
            _write_under("cannot:", right.sentence)
        for path in to.already:
            _write_under("already:", path)
        for breach in to.latches:
            out.print(f"    latch ({breach.mode}) {breach.latch}: {breach.fact}. {breach.remedy}")
        for met in to.meets:
            out.print(f"    meets the latch: {met}")
        for needed in to.prerequisites:
            _write_under("has:" if needed.met else "lacks:", needed.sentence)


def _write_under(heading: str, sentence: str) -> None:
    out.print(f"    {say(heading):10} {sentence}", markup=False)


@offer.command("show")
@click.argument("ident", type=session.Reference("offers"))
@output_option
def offer_show(ident: UUID, output: str) -> None:
    """Show an offer, with its summary."""
    with session.client() as service:
        found = service.offer(ident)
    show_one(found, output, lambda: _write_offer(found))


def _write_offer(found: schemas.OfferPage) -> None:
    out.print(
        Text(f"{found.account.name} to {found.team or found.person.name}", style="bold"), Word(found.state).said()
    )
    out.print(f"{found.words}; reach {reach(found.reach)}")
    for heading, rights in (("can:", found.can), ("cannot:", found.cannot)):
        for right in rights:
            _write_under(heading, right.sentence)
    sender = found.sender.name if found.sender else "Open Latch"
    out.print(
        f"Sent to {found.address} by {sender} at {moment(found.sent_at)} ({found.times_sent} times), "
        f"runs out {moment(found.runs_out_at)}"
    )
    if found.answer:
        out.print(f"Answer: {found.answer}")


@offer.command("change")
@click.argument("ident", type=session.Reference("offers"))
@click.option("--level", "levels", multiple=True, help="A level, by name.")
@click.option("--permission", "permissions", multiple=True, help="A single permission by key; KEY=DAY ends it alone.")
@click.option("--part", "parts", multiple=True, help="A resource or group.")
@click.option("--whole", is_flag=True, help="The whole account instead of parts.")
@click.option("--until", type=session.LastDay(), default=None, help="The last day, or an instant.")
@click.option("--no-end", is_flag=True, help="Without an end.")
@click.option("--hours", "hours_", default=None, help="Weekly hours, as in: mon-fri 08:00-18:00")
@click.option("--any-hour", is_flag=True, help="At any hour.")
def offer_change(
    ident: UUID,
    levels: tuple[str, ...],
    permissions: tuple[str, ...],
    parts: tuple[str, ...],
    whole: bool,
    until: date | datetime | None,
    no_end: bool,
    hours_: str | None,
    any_hour: bool,
) -> None:
    """Change a pending offer; options left out stay unchanged. Whoever has opened it has to read it again."""
    with session.client() as service:
        found = service.offer(ident)
        account = found.account.id
        given: JsonObject = {}
        if levels or permissions:
            given["levels"] = [level_of(service, account, one) for one in levels]
            given["permissions"] = [_single(one) for one in permissions]
        if parts or whole:
            given["parts"] = parts_of(service, account, parts)
        if until is not None or no_end:
            given |= {"until": None, **window(until)}
        if hours_ is not None or any_hour:
            given["hours"] = hours(hours_)
        before = found.choice.model_dump() if found.choice is not None else {}
        choice = schemas.ChangeOffer.model_validate({**before, **given})
        _write_offer(session.proving(service, lambda: service.change_offer(ident, choice, found.version)))


@offer.command("resend")
@click.argument("ident", type=session.Reference("offers"))
def offer_again(ident: UUID) -> None:
    """Send an offer again, with a new link."""
    with session.client() as service:
        _write_offer(service.send_offer_again(ident))


@offer.command("withdraw")
@click.argument("ident", type=session.Reference("offers"))
def offer_withdraw(ident: UUID) -> None:
    """Withdraw a pending offer."""
    with session.client() as service:
        _write_offer(service.withdraw_offer(ident))


@offer.command("accept")
@click.argument("ident", type=session.Reference("offers"))
@consent_options
def offer_accept(ident: UUID) -> None:
    """Accept an offer to you."""
    with session.client() as service:
        found = service.offer(ident)
        go_on("Accept it?", lambda _: _write_offer(found))
        _write_offer(service.accept_offer(ident, found.version))


@offer.command("decline")
@click.argument("ident", type=session.Reference("offers"))
@click.option("--words", default="", help="A word about why.")
@click.option("--unknown-sender", is_flag=True, help="You do not know who sent it.")
def offer_decline(ident: UUID, words: str, unknown_sender: bool) -> None:
    """Decline an offer to you."""
    with session.client() as service:
        found = service.offer(ident)
        _write_offer(service.decline_offer(ident, found.version, words, unknown_sender))


@click.group("request")
def request_group() -> None:
    """Requests for access, and answering them."""


request_group.add_command(list_command("requests", REQUESTS, "Nobody asks for anything."))


@request_group.command("ask")
@click.argument("account", default="")
@click.option("--owner", default="", help="The owner's address, when you don't know the account.")
@click.option("--level", default=None, help="A level, by name or id.")
@click.option("--part", "parts", multiple=True, type=click.UUID, help="A resource or group.")
@click.option("--until", type=session.LastDay(), default=None, help="The last day, or an instant.")
@reason_option()
@click.option("--emergency", is_flag=True, help="Have it at once, where the account allows it.")
@output_option
def request_ask(
    account: str,
    owner: str,
    level: str | None,
    parts: tuple[UUID, ...],
    until: date | datetime | None,
    reason: str,
    emergency: bool,
    output: str,
) -> None:
    """Ask for access to an account by its exact name or id, or ask its owner by address."""
    wish: JsonObject = {"owner_address": owner, "parts": list(parts), "reason": reason, **window(until)}
    try:
        wish["account"] = UUID(account)
    except ValueError:
        wish["account_name"] = account
    with session.client() as service:
        if level is not None:
            wish["level"] = _any_level(service, level)
        found = service.ask_access(schemas.AskAccess(**wish, emergency=emergency))
    show_rows([found], REQUESTS, output, "")


@grant.command("longer")
@click.argument("ident", type=session.Reference("grants"))
@click.option(
    "--until", type=session.LastDay(), default=None, help="The last day, or an instant; left out, whoever answers says."
)
@reason_option()
@output_option
def grant_longer(ident: UUID, until: date | datetime | None, reason: str, output: str) -> None:
    """Ask to extend your own access."""
    with session.client() as service:
        wish = schemas.AskAccess.model_validate({"extends": ident, "reason": reason, **window(until)})
        show_rows([service.ask_access(wish)], REQUESTS, output, "")


def _any_level(service: Client, name: str) -> UUID:
    try:
        return UUID(name)
    except ValueError:
        return session.find(service, "levels", name)


@request_group.command("grant")
@click.argument("ident", type=session.Reference("requests"))
@click.option("--level", default=None, help="A lower level than was asked for.")
@click.option("--until", type=session.LastDay(), default=None, help="A shorter time than was asked for.")
@click.option("--account", default=None, help="The account, for a request that names none.")
@click.option("--words", default="", help="A word with it.")
@output_option
def request_grant(
    ident: UUID, level: str | None, until: date | datetime | None, account: str | None, words: str, output: str
) -> None:
    """Grant a request, in full or in part."""
    with session.client() as service:
        how = schemas.GrantRequest.model_validate(
            {
                "account": session.find(service, "accounts", account) if account else None,
                "levels": [_any_level(service, level)] if level else [],
                "words": words,
                **window(until),
            }
        )
        found = session.proving(service, lambda: service.grant_request(ident, how))
    show_rows([found], REQUESTS, output, "")


@request_group.command("decline")
@click.argument("ident", type=session.Reference("requests"))
@click.option("--words", prompt="A word about why", help="A word about why; they will read it.")
def request_decline(ident: UUID, words: str) -> None:
    """Decline a request."""
    with session.client() as service:
        show_rows([service.decline_request(ident, words)], REQUESTS, "table", "")


@request_group.command("withdraw")
@click.argument("ident", type=session.Reference("requests"))
def request_withdraw(ident: UUID) -> None:
    """Withdraw your own request."""
    with session.client() as service:
        show_rows([service.withdraw_request(ident)], REQUESTS, "table", "")


def change(service: Client, wish: schemas.ChangeWish, words: str, output: str = "table") -> int:
    """Preview a change of grants, ask, and carry it out; returns the exit code, 4 if some of it was refused."""
    try:
        preview = service.preview_change(wish)
    except CallFailed as error:
        if not error.problem.type.endswith(":too-large"):
            raise
        return _change_many(service, wish, words, output)
    question = f"{words} {preview.changed} grant{'s' * (preview.changed != 1)}?"
    go_on(question, lambda how: show_rows(preview.lines, LINES, how, "Nothing matches."), output)
    wish = wish.model_copy(update={"fingerprint": preview.fingerprint})
    found = session.proving(service, lambda: service.change(wish))
    show_rows(found.lines, LINES, output, "")
    return 0 if all(line.refused is None for line in found.lines) else 4


def _change_many(service: Client, wish: schemas.ChangeWish, words: str, output: str) -> int:
    """The same for too many grants for one call: the worker does it."""
    preview = _followed(service, service.change_many(wish, only_preview=True), "Looking")
    err.print(f"{preview.changed} of {preview.grants} grants would change; {preview.refused} are refused.")
    question = f"{words} {preview.changed} grant{'s' * (preview.changed != 1)}?"
    go_on(question, lambda how: show_rows(preview.lines, LINES, how, "Nothing matches."), output)
    begun = session.proving(service, lambda: service.change_many(wish, seen=preview.id))
    found = _followed(service, begun, words)
    show_rows(found.lines, LINES, output, "")
    err.print(f"{found.state.capitalize()}: {found.changed} of {found.grants} grants changed, {found.refused} refused.")
    return 0 if found.state == "done" and not found.refused else 4


def _followed(service: Client, change: schemas.LargeChangePage, words: str) -> schemas.LargeChangePage:
    """Wait for a change, showing its progress. Ctrl-C leaves it running."""
    with Progress(console=err, transient=True) as bar:
        task = bar.add_task(words, total=change.grants)
        while change.state in ("waiting", "under_way"):
            bar.update(task, completed=change.done)
            time.sleep(0.5)
            change = service.large_change(change.id)
    if change.state == "failed":
        raise Conflict(f"It was not made: {change.problem}", "Look at the journal, and ask again.")
    return change


def _changing(name: str, kind: str, words: str, *options: Any) -> None:
    """A command that changes grants: those named, or all that a filter matches."""

    def command(
        grants: tuple[UUID, ...],
        filter_: str,
        reason: str,
        output: str,
        until: date | datetime | None = None,
        no_end: bool = False,
        level: UUID | None = None,
        to: str | None = None,
    ) -> int:
        with session.client() as service:
            wish = schemas.ChangeWish.model_validate(
                {
                    "kind": kind,
                    "grants": list(grants),
                    "filter": filter_,
                    "reason": reason,
                    "no_end": no_end,
                    "level": level,
                    "successor": session.find(service, "people", to) if to else None,
                    **window(until),
                }
            )
            return change(service, wish, words, output)

    command.__doc__ = f"{words} grants: those named, or all live ones that a filter matches."
    made: Any = command
    for option in (
        output_option,
        consent_options,
        reason_option(),
        click.option("--filter", "-f", "filter_", default="", help='A filter, as in: holder.id eq "…".'),
        *options,
        click.argument("grants", type=session.Reference("grants"), nargs=-1),
    ):
        made = option(made)
    grant.add_command(click.command(name)(made))


_changing("suspend", "suspend", "Suspend")
_changing("resume", "resume", "Resume")
_changing("end", "end", "End")
_changing(
    "set-end",
    "set_end",
    "Move the end of",
    click.option("--until", type=session.LastDay(), default=None, help="The last day, or an instant."),
    click.option("--no-end", is_flag=True, help="Let them have no end."),
)
_changing(
    "set-level",
    "set_level",
    "Change the level of",
    click.option("--level", type=session.Reference("levels"), required=True, help="The level that they become."),
)
_changing(
    "adopt",
    "adopt",
    "Record",
    click.option("--owner", "to", default=None, help="Who owns the account from now on, where nobody does."),
)
_changing("restore", "restore", "Give in the system again")
_changing(
    "accept",
    "accept",
    "Accept how the system departs from",
    click.option("--until", type=session.LastDay(), required=True, help="The last day on which it is accepted."),
)
_changing("replace", "replace", "Hand over", click.option("--to", required=True, help="The successor."))


@grant.command("terms")
@click.argument("ident", type=session.Reference("grants"))
@output_option
def grant_terms(ident: UUID, output: str) -> None:
    """List the terms of a grant, with the numbers that `grant set-term` takes."""
    with session.client() as service:
        found = service.grant_terms(ident)

    def write() -> None:
        for number, term in enumerate(found.terms, 1):
            out.print(f"{number}  {term.words}")

    show_one(found, output, write)


@grant.command("set-term")
@click.argument("ident", type=session.Reference("grants"))
@click.option("--number", type=click.IntRange(1), default=None, help="Which term; left out, one is added.")
@click.option("--level", default=None, help="Another level, by name.")
@click.option("--permission", default=None, help="A single permission instead, by its key.")
@click.option("--part", default=None, help="A resource or group.")
@click.option("--whole", is_flag=True, help="The whole account instead of a part.")
@click.option("--until", type=session.LastDay(), default=None, help="The last day, or an instant.")
@click.option("--no-end", is_flag=True, help="Without an end.")
@click.option("--hours", "hours_", default=None, help="Weekly hours, as in: mon-fri 08:00-18:00")
@click.option("--any-hour", is_flag=True, help="At any hour.")
@click.option("--drop", is_flag=True, help="Take the term out.")
@reason_option()
@consent_options
@output_option
def grant_set_term(
    ident: UUID,
    number: int | None,
    level: str | None,
    permission: str | None,
    part: str | None,
    whole: bool,
    until: date | datetime | None,
    no_end: bool,
    hours_: str | None,
    any_hour: bool,
    drop: bool,
    reason: str,
    output: str,
) -> int:
    """Change, add or remove one term of a grant; the others stay unchanged."""
    with session.client() as service:
        account = service.grant(ident).account.id
        found = service.grant_terms(ident)
        terms = [_as_wish(term) for term in found.terms]
        if number is not None and number > len(terms):
            raise click.BadParameter(f"The grant has {len(terms)} terms.", param_hint="--number")
        changed: JsonObject = dict(terms[number - 1]) if number is not None else {}
        if level is not None:
            changed |= {"level": level_of(service, account, level), "permission": ""}
        if permission is not None:
            changed |= {"level": None, "permission": permission}
        if part is not None or whole:
            changed["part"] = parts_of(service, account, (part,))[0] if part is not None else None
        if until is not None or no_end:
            changed |= {"until": None, **window(until)}
        if hours_ is not None or any_hour:
            changed["hours"] = hours(hours_)
        at = len(terms) if number is None else number - 1
        terms[at : at + 1] = [] if drop else [changed]
        wish = schemas.ChangeWish.model_validate(
            {
                "kind": "set_terms",
                "grants": [ident],
                "versions": {ident: found.version},
                "terms": terms,
                "reason": reason,
            }
        )
        return change(service, wish, "Change the terms of", output)


def _as_wish(term: schemas.TermNow) -> JsonObject:
    return {
        "level": term.level.id if term.level else None,
        "permission": term.permission or "",
        "part": term.part.id if term.part else None,
        "since": term.since,
        "until": term.until,
        "hours": term.hours,
    }


@grant.command("give-up")
@click.argument("ident", type=session.Reference("grants"))
@click.option("--reason", default="", help="Why.")
@consent_options
def give_up(ident: UUID, reason: str) -> None:
    """Give up access of your own."""
    with session.client() as service:
        go_on("Give this access up? To have it again, you would have to ask.")
        found = service.give_up(ident, reason)
    out.print(f"Access to {found.account.name} is being ended: openlatch revocation show {found.revocation_id}")


renamed.keep(offer, "again", "resend")

COMMANDS: dict[str, click.Command] = {"offer": offer, "request": request_group, "grant": grant}
