"""Review rounds: opening, showing, deciding, closing."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime
from uuid import UUID

import click
from rich.text import Text

from openlatch import schemas
from openlatch.cli import session
from openlatch.cli.consent import consent_options, go_on, only_preview, preview_option
from openlatch.cli.output import (
    Column,
    Word,
    day,
    end_day,
    moment,
    out,
    output_option,
    reach,
    short,
    show_one,
    show_rows,
    table_options,
)
from openlatch.cli.register import list_command
from openlatch.cli.schedules import FATES, fates, line_of, review_options
from openlatch.client import Client
from openlatch.client.base import end
from openlatch.core.vocabulary import ItemState, Verdict
from openlatch.errors import BadInput
from openlatch.json_values import JsonObject
from openlatch.languages.terminal import say

STATES = {"open": "open", "carrying_out": "carrying out", "closed": "closed"}
ROUNDS: list[Column] = [
    ("ID", lambda r: short(r.id)),
    ("Name", lambda r: r.name),
    ("Decided", lambda r: Word(f"{r.decided} of {r.items}")),
    ("Due", lambda r: day(r.due_at)),
    ("State", lambda r: f"{say(STATES[r.state])} {day(r.closed_at)}" if r.closed_at else Word("open")),
]


def _decision(item: schemas.ItemRow) -> str:
    verdict = Word(item.verdict).said()
    return f"{verdict}?" if item.state == ItemState.SECONDING else verdict


ITEMS: list[Column] = [
    ("No", lambda i: i.position),
    ("Holder", lambda i: i.holder.name),
    ("Account", lambda i: i.account.name if i.account else "–"),
    ("Level", lambda i: i.level),
    ("Reach", lambda i: reach(i.reach)),
    ("Flags", lambda i: i.flagged),
    ("Consider", lambda i: Word(i.recommended)),
    ("Reviewer", lambda i: getattr(i.reviewer or i.reviewer_team, "name", Word("nobody"))),
    ("Decision", lambda i: _decision(i)),
    ("Reason", lambda i: i.reason),
]


@click.group("round")
def round_group() -> None:
    """Review rounds."""


round_group.add_command(list_command("rounds", ROUNDS, "There is no round."))


@round_group.command("open")
@click.argument("name")
@review_options
@preview_option
@output_option
def round_open(name: str, review: JsonObject, output: str) -> None:
    """Open a review of what a filter matches."""
    with session.client() as service:
        reviewers = line_of(service, review["reviewers"])
        wish = schemas.OpenRound.model_validate({**review, "name": name, "reviewers": reviewers})
        told = service.preview_round(wish)
        if only_preview():
            go_on("Open it?", lambda how: show_one(told, how, lambda: _write_population(told)), output)
        _warn(told)
        found = service.open_round(wish)
    show_one(found, output, lambda: _write_round(found))


def _write_population(told: schemas.Population) -> None:
    held = ", ".join(f"{part.items} of the kind {part.kind}" for part in told.population if part.items)
    out.print(f"As things are, it would hold: {held or 'nothing'}.", markup=False)
    _warn(told)


def _warn(told: schemas.Population) -> None:
    if told.without_sign_in:
        names = ", ".join(one.name for one in told.without_sign_in) + (" and more" if told.more_without_sign_in else "")
        click.echo(say(f"May be asked, and can’t sign in: {names}. Invite them: openlatch sign-in invite"), err=True)


def _write_round(found: schemas.RoundPage) -> None:
    out.print(Text(found.name, style="bold"), str(found.id))
    state = f"due {moment(found.due_at)}"
    if found.closed_at:
        going = f"{found.to_do} still to be carried out" if found.state == "carrying_out" else "all carried out"
        state = f"closed {moment(found.closed_at)}, {going}"
    out.print(
        f"{found.decided} of {found.items} decided ({found.kept} kept, {found.trimmed} trimmed, "
        f"{found.revoked} revoked); {state}"
    )
    if found.seconding:
        out.print(f"{found.seconding} wait for a second reviewer.")
    if found.by_default:
        out.print(f"{found.by_default} went to an administrator, since nobody in line might decide them.")
    for reviewer in found.reviewers_progress:
        pace = f", {reviewer.seconds_between:.0f} s between decisions" if reviewer.seconds_between is not None else ""
        out.print(
            f"  {reviewer.name or 'nobody yet'}: {reviewer.decided} of {reviewer.items}, {reviewer.kept} kept{pace}"
        )


@round_group.command("show")
@click.argument("ident", type=session.Reference("rounds"))
@output_option
def round_show(ident: UUID, output: str) -> None:
    """Show a review with its progress."""
    with session.client() as service:
        found = service.round(ident)
    show_one(found, output, lambda: _write_round(found))


@round_group.command("progress")
@click.argument("ident", type=session.Reference("rounds"))
@output_option
def round_progress(ident: UUID, output: str) -> None:
    """Show the progress of a review, by day and by account."""
    with session.client() as service:
        found = service.round_progress(ident)
    show_one(found, output, lambda: _write_progress(found))


def _write_progress(found: schemas.RoundProgress) -> None:
    done = 0
    for one in found.by_day:
        done += one.decided
        bar = "█" * round(40 * done / found.items)
        out.print(f"{one.day}  {bar:<40} {done} of {found.items} (+{one.decided}, {one.kept} kept)")
    out.print(f"Due {moment(found.due_at)}; {found.late} late" if found.late else f"Due {moment(found.due_at)}")
    for account in found.by_account:
        if account.decided < account.items:
            out.print(f"  {account.name}: {account.items - account.decided} of {account.items} left")


@round_group.command("items")
@click.argument("ident", type=session.Reference("rounds"))
@click.option("--undecided", is_flag=True, help="Only those without a decision.")
@click.option("--filter", "filter_", default="", help='A filter, as in: recommended eq "revoke" and flagged gt 0.')
@table_options
def round_items(ident: UUID, undecided: bool, filter_: str, output: str) -> None:
    """List the items of a review that are yours to decide; all for administrators."""
    with session.client() as service:
        wanted = " and ".join(
            filter(None, ['state eq "undecided"' if undecided else "", f"({filter_})" if filter_ else ""])
        )
        rows = list(service.items(ident, filter=wanted))
    show_rows(rows, ITEMS, output, "There is nothing to decide.")


@round_group.command("item")
@click.argument("ident", type=session.Reference("rounds"))
@click.argument("number", type=int)
@output_option
def round_item(ident: UUID, number: int, output: str) -> None:
    """Show item NUMBER of a review, with what speaks for and against it."""
    with session.client() as service:
        found = service.item(ident, _numbered(service, ident, number).id)
    show_one(found, output, lambda: _write_item(found))


def _write_item(item: schemas.ItemRow) -> None:
    facts = item.facts
    out.print(Text(f"{item.holder.name} in {facts['account']['name']}: {item.level}", style="bold"))
    out.print(facts.get("sentence") or "")
    if "last_used_at" in facts:
        used, until = (datetime.fromisoformat(at) if at else None for at in (facts["last_used_at"], facts["until"]))
        out.print(f"Used: {day(used) if used else 'never'}; last day: {end_day(until) if until else 'no end'}")
    for flag in facts["flags"]:
        out.print(f"Flag: {flag['sentence']}")
    for other in facts.get("others", []):
        out.print(f"Also: {other}")
    peers, last = facts.get("peers"), facts.get("last_decision")
    if peers:
        out.print(f"Others: {peers['have']} of {peers['people']} with the job {peers['job']} hold something here.")
    if last:
        out.print(f"Last time: {last['verdict']} by {last['by'] or 'nobody'}, {last['at'][:10]}: {last['reason']}")
    for change in item.changes:
        out.print(f"Since then: {change}")
    out.print("Consider:", f"{Word(item.recommended).said()}.", facts["recommendation"]["reason"], markup=False)
    who = item.reviewer or item.reviewer_team
    out.print("Reviewer:", f"{who.name if who else say('nobody yet')}.", item.assigned_as, markup=False)
    if item.question:
        out.print(f"Asked {item.question.of}: {item.question.question} – {item.question.answer or 'no answer yet'}")
    if item.verdict:
        by = item.decided_by.name if item.decided_by else "nobody"
        out.print(f"Decided: {item.verdict} by {by}: {item.reason} {item.outcome}")


def _numbered(service: Client, ident: UUID, number: int) -> schemas.ItemRow:
    found = list(service.items(ident, filter=f"position eq {number}"))
    if not found:
        raise BadInput(f"The round has no item {number} of yours.", f"Look at: openlatch round items {ident}")
    row: schemas.ItemRow = found[0]
    return row


@round_group.command("decide")
@click.argument("ident", type=session.Reference("rounds"))
@click.argument("numbers", type=int, nargs=-1, required=True)
@click.argument("verdict", type=click.Choice(["keep", "trim", "revoke"]))
@click.option("--reason", default="", help="Why.")
@click.option("--level", type=session.Reference("levels"), default=None, help="The lower level that a trim leaves.")
@click.option("--until", type=session.LastDay(), default=None, help="The earlier end that a trim sets.")
@click.option("--to-use", is_flag=True, help="Leave open only the use by outsiders that was seen.")
@click.option("--successor", default="", help="Who is to own the account, when an ownership is revoked.")
@consent_options
def round_decide(
    ident: UUID,
    numbers: Sequence[int],
    verdict: str,
    reason: str,
    level: UUID | None,
    until: date | datetime | None,
    to_use: bool,
    successor: str,
) -> None:
    """Decide the items with these NUMBERS."""
    with session.client() as service:
        items = [_numbered(service, ident, number) for number in numbers]
        if len(items) > 1:
            return _decide_many(service, ident, items, verdict, reason)
        item = items[0]
        person = session.find(service, "people", successor) if successor else None
        what = f"{verdict} “{item.level}” of {item.holder.name} on {item.facts['account']['name']}"
        wish = {
            "verdict": verdict,
            "reason": reason,
            "trim_level": level,
            **end(until, "trim_"),
            "trim_to_use": to_use,
            "successor": person,
        }
        if verdict != Verdict.KEEP or only_preview():
            shown = service.preview_decision(item, schemas.Decide.model_validate(wish))
            go_on(f"{what}?", lambda _: _write_decision(shown))
        found = service.decide(item, verdict, reason, level, until, person, trim_to_use=to_use)
    out.print(
        f"Decided: {what}." if found.state == ItemState.DECIDED else f"Decided, and waiting for a second: {what}."
    )
    if found.revocation_id:
        out.print(f"It is being carried out: openlatch revocation show {found.revocation_id}")
    if found.draft_id:
        out.print("It is being carried out: the system is given the narrower access rules.")
    return None


def _write_decision(shown: schemas.DecisionPreview) -> None:
    out.print(shown.sentence)
    for step in shown.preview.steps if shown.preview else []:
        out.print(f"  {step.sentence}")


def _decide_many(service: Client, ident: UUID, items: Sequence[schemas.ItemRow], verdict: str, reason: str) -> None:
    if verdict == Verdict.TRIM:
        raise BadInput("A trim is decided item by item.", "Name one item, with --level, --until or --to-use.")
    if verdict != Verdict.KEEP or only_preview():
        go_on(
            f"{say(verdict).capitalize()} (items: {len(items)})?",
            lambda _: show_rows(items, ITEMS, "table", ""),
        )
    found: schemas.Decided = session.proving(service, lambda: service.decide_many(ident, items, verdict, reason))
    numbers = {item.id: item.position for item in items}
    for line in found.lines:
        if line.refused:
            out.print(f"Item {numbers[line.id]}: {line.refused}")
    out.print(f"Decided: {found.decided} of {len(items)}.")


@round_group.command("second")
@click.argument("ident", type=session.Reference("rounds"))
@click.argument("number", type=int)
@click.option("--agree/--send-back", required=True, help="Agree, or send the decision back.")
@click.option("--reason", default="", help="Why.")
def round_second(ident: UUID, number: int, agree: bool, reason: str) -> None:
    """Agree to the decision on item NUMBER as its second reviewer, or send it back."""
    with session.client() as service:
        found = service.second(_numbered(service, ident, number), agree, reason)
    out.print(f"Item {number} is {found.state}.")


@round_group.command("undo")
@click.argument("ident", type=session.Reference("rounds"))
@click.argument("number", type=int)
def round_undo(ident: UUID, number: int) -> None:
    """Undo the decision on item NUMBER."""
    with session.client() as service:
        service.undo(_numbered(service, ident, number))
    out.print(f"Item {number} is undecided.")


@round_group.command("pass")
@click.argument("ident", type=session.Reference("rounds"))
@click.argument("number", type=int)
@click.option("--to", default="", help="The better reviewer; left out, those are shown who could be.")
@click.option("--reason", default="", help="Why they.")
def round_pass(ident: UUID, number: int, to: str, reason: str) -> None:
    """Pass item NUMBER on to another reviewer."""
    with session.client() as service:
        item = _numbered(service, ident, number)
        if not to:
            people = service.better_reviewers(item)
            for person in people:
                out.print(f"{person.name}: {person.why}")
            if not people:
                out.print("Nobody is known who could decide it better. Name somebody with --to.")
            return
        known = [one.id for one in service.better_reviewers(item) if one.name.lower() == to.lower()]
        service.pass_on(item, known[0] if len(known) == 1 else session.find(service, "people", to), reason)
    out.print(f"Item {number} is passed on.")


@round_group.command("ask")
@click.argument("ident", type=session.Reference("rounds"))
@click.argument("number", type=int)
@click.argument("question")
def round_ask(ident: UUID, number: int, question: str) -> None:
    """Ask the holder about item NUMBER."""
    with session.client() as service:
        found = service.ask_holder(_numbered(service, ident, number), question)
    out.print(f"Asked {found.question.of if found.question else ''}.")


@round_group.command("explain")
@click.argument("ident", type=session.Reference("rounds"))
@click.argument("number", type=int)
@click.argument("reason")
def round_explain(ident: UUID, number: int, reason: str) -> None:
    """Explain why the decision on item NUMBER can't be shown to be carried out."""
    with session.client() as service:
        service.explain(_numbered(service, ident, number), reason)
    out.print(f"Item {number} is explained.")


@round_group.command("close")
@click.argument("ident", type=session.Reference("rounds"))
@click.option(
    "--undecided",
    multiple=True,
    metavar="FATE",
    help=f"What becomes of undecided items: {', '.join(FATES)}; REACH=FATE for one reach.",
)
@consent_options
def round_close(ident: UUID, undecided: tuple[str, ...]) -> None:
    """Close a review. Its decisions are then carried out."""
    given = fates(undecided)
    with session.client() as service:
        before = service.round(ident)
        left = before.items - before.decided
        go_on(f"Close “{before.name}” with {before.decided} decided and {left} undecided items?")
        found = service.close_round(ident, schemas.Fates.model_validate(given) if given else None)
    _write_round(found)


COMMANDS = {"round": round_group}
