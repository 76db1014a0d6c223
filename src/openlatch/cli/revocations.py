"""Ending and trimming access: always a preview and a question first."""

from __future__ import annotations

import time
from datetime import date, datetime
from uuid import UUID

import click
from rich.text import Text

from openlatch import schemas
from openlatch.cli import session
from openlatch.cli.consent import consent_options, go_on, reason_option
from openlatch.cli.output import Column, Word, err, moment, out, output_option, proof, reach, short, show_one
from openlatch.cli.register import list_command, session_group
from openlatch.client import Client
from openlatch.core.revocations.proof import in_words
from openlatch.core.vocabulary import StepState
from openlatch.json_values import JsonObject
from openlatch.languages.terminal import say

REVOCATIONS: list[Column] = [
    ("ID", lambda r: short(r.id)),
    ("What", lambda r: r.title),
    ("State", lambda r: Word(r.state)),
    ("Steps", lambda r: Word(f"{r.steps_done} of {r.steps}")),
    ("Asked by", lambda r: r.asked_by.name if r.asked_by else None),
    ("When", lambda r: moment(r.created_at)),
]
# Words for what depends on a login.
STOPS = {"object": "left over", "job": "stops", "key": "stops", "others": "others lose", "password": "note"}
WAIT_SECONDS = 120
_WAIT = click.option("--wait/--no-wait", default=True, show_default=True, help="Wait until it is over.")


@click.command()
@click.argument("grants", type=session.Reference("grants"), nargs=-1, required=True)
@reason_option()
@consent_options
@_WAIT
@output_option
def revoke(grants: tuple[UUID, ...], reason: str, wait: bool, output: str) -> None:
    """End grants in their systems, and check that they are gone."""
    with session.client() as service:
        _end(service, {"grants": grants}, reason, wait, output)


@session_group.command("end")
@click.argument("sessions", type=session.Reference("sessions"), nargs=-1, required=True)
@reason_option()
@consent_options
@_WAIT
@output_option
def session_end(sessions: tuple[UUID, ...], reason: str, wait: bool, output: str) -> None:
    """End sessions."""
    with session.client() as service:
        _end(service, {"sessions": sessions}, reason, wait, output)


@session_group.command("end-own")
@click.argument("ident", type=session.Reference("sessions"))
@consent_options
def session_end_own(ident: UUID) -> None:
    """End one of your own sessions in its system."""
    with session.client() as service:
        go_on("End this session of yours?")
        found = service.end_session(ident)
    out.print(f"It is being ended in {found.account.name}; listed until it is seen gone.", markup=False)


@click.command()
@click.argument("grant", type=session.Reference("grants"))
@click.option("--level", type=session.Reference("levels"), default=None, help="The lower level that is left.")
@click.option("--until", type=session.LastDay(), default=None, help="The last day, or an instant.")
@reason_option()
@consent_options
@_WAIT
@output_option
def trim(grant: UUID, level: UUID | None, until: date | datetime | None, reason: str, wait: bool, output: str) -> None:
    """Trim a grant to a lower level, an earlier end, or both."""
    with session.client() as service:
        _end(service, {"grants": (grant,), "trim_level": level, "trim_until": until}, reason, wait, output)


def _end(service: Client, wish: JsonObject, reason: str, wait: bool, output: str) -> None:
    preview = service.preview(**wish)
    go_on(question(preview), lambda how: show_one(preview, how, lambda: write_preview(preview)), output)
    found = session.proving(service, lambda: service.revoke(reason, **wish, fingerprint=preview.fingerprint))
    if wait:
        found = follow(service, found)
    show_one(found, output, lambda: write_revocation(found))


def question(preview: schemas.Preview) -> str:
    """The question before a revocation, with numbers."""
    rights = sum(len(change.ends) for change in preview.changes)
    return f"{preview.title} (rights: {rights}, sessions: {len(preview.sessions)})?"


def write_preview(preview: schemas.Preview) -> None:
    """Write what ends, what remains, what stops, and the steps."""
    out.print(Text(preview.title, style="bold"))
    for change in preview.changes:
        out.print(f"  {change.holder.name} on {change.account.name}")
        for right in change.ends:
            out.print(f"    {say('ends:'):8} {right.sentence} ({reach(right.reach)})")
        for path in change.remains:
            out.print(f"    remains: {path.level}, because {path.words}")
        if not change.remains:
            out.print("    nothing remains")
    for ending in preview.sessions:
        out.print(f"  a session of {ending.holder} in {ending.account} ends")
    for app in preview.apps_that_stop:
        out.print(f"  {app} stops working there")
    _write_besides(preview)
    out.print("  Steps:" if preview.steps else "  The register does it by itself; no system has to be changed.")
    for number, step in enumerate(preview.steps, 1):
        out.print(f"    {number}. {step.sentence}")


def _write_besides(preview: schemas.Preview) -> None:
    """Write what depends on it, and what reads do not cover."""
    for stop in preview.stops:
        out.print(f"  {say(STOPS[stop.kind])}: {stop.sentence}")
    for gap in preview.unknown:
        out.print(f"  not looked at: {gap}", markup=False)
    for account in preview.without_owner:
        out.print(f"  {account} has no owner")


def follow(service: Client, found: schemas.RevocationPage) -> schemas.RevocationPage:
    """Wait until a revocation has ended or needs somebody."""
    deadline = time.monotonic() + WAIT_SECONDS
    with err.status("Carrying out") as status:
        while found.state == "carrying_out" and time.monotonic() < deadline:
            time.sleep(0.3)
            found = service.revocation(found.id)
            status.update(f"Carrying out: {found.steps_done} of {found.steps} steps")
    return found


def write_revocation(found: schemas.RevocationPage) -> None:
    """A revocation with its steps."""
    out.print(Text(found.title, style="bold"), found.state.replace("_", " "), str(found.id))
    out.print(
        f"Asked by {found.asked_by.name if found.asked_by else 'Open Latch'} at {moment(found.created_at)}: "
        f"{found.reason}"
    )
    for step in found.step_list:
        known = proof(step.proof, step.done_by)
        out.print(f"  {step.position}. {step.sentence}: {known or step.state.replace('_', ' ')}")
        if step.answer:
            out.print(f"     {step.answer}")
        if step.next_try_at and step.state == StepState.WAITING:
            out.print(f"     tries: {step.tries}; next at {moment(step.next_try_at)}")
        if step.state == StepState.BY_HAND:
            out.print(f"     when done: openlatch revocation done {found.id} {step.position} --proof …")
    if found.undone_at:
        out.print(f"Undone at {moment(found.undone_at)}.")
    elif found.settled_at:
        counts = {word: getattr(found, word) for word in ("confirmed", "stated", "unproved", "contradicted")}
        out.print(f"Over at {moment(found.settled_at)}. Ended: {in_words(counts)}.")
        for end in found.ends if found.state != "confirmed" else ():
            out.print(f"  {proof(end.proof, end.proved_by) or 'kept by the register'}: {end.what}", markup=False)


@click.group()
def revocation() -> None:
    """Revocations and their steps."""


revocation.add_command(list_command("revocations", REVOCATIONS, "Nothing was revoked."))


@revocation.command("show")
@click.argument("ident", type=session.Reference("revocations"))
@output_option
def revocation_show(ident: UUID, output: str) -> None:
    """A revocation with its steps."""
    with session.client() as service:
        found = service.revocation(ident)
    show_one(found, output, lambda: write_revocation(found))


@revocation.command("retry")
@click.argument("ident", type=session.Reference("revocations"))
def revocation_retry(ident: UUID) -> None:
    """Retry waiting steps now."""
    with session.client() as service:
        write_revocation(service.retry(ident))


def _step(service: Client, revocation: UUID, step: str) -> UUID:
    steps = service.revocation(revocation).step_list
    return session.among(step, steps, "steps", lambda one: [str(one.position)])


@revocation.command("done")
@click.argument("ident", type=session.Reference("revocations"))
@click.argument("step")
@click.option("--proof", prompt="What was done, and what was seen", help="What was done, and what was seen.")
def revocation_done(ident: UUID, step: str, proof: str) -> None:
    """Mark a manual step as done: STEP by its number, or its id."""
    with session.client() as service:
        write_revocation(service.step_done(ident, _step(service, ident, step), proof))


@revocation.command("skip")
@click.argument("ident", type=session.Reference("revocations"))
@click.argument("step")
@reason_option("Why will it not be done")
def revocation_skip(ident: UUID, step: str, reason: str) -> None:
    """Skip a step, STEP by its number or its id: the end of its access is then not proved."""
    with session.client() as service:
        write_revocation(service.skip_step(ident, _step(service, ident, step), reason))


@revocation.command("undo")
@click.argument("ident", type=session.Reference("revocations"))
@reason_option()
@consent_options
@output_option
def revocation_undo(ident: UUID, reason: str, output: str) -> None:
    """Undo a revocation: restore the access that it ended."""
    with session.client() as service:
        found = service.preview_undo(ident)
        count = sum(line.refused is None for line in found.lines)
        question = f"Put {count} of {len(found.lines)} grants back?"
        go_on(question, lambda how: show_one(found, how, lambda: _write_undone(found)), output)
        done = session.proving(service, lambda: service.undo_revocation(ident, reason))
    show_one(done, output, lambda: _write_undone(done))


def _write_undone(found: schemas.Undone) -> None:
    out.print(Text(found.title, style="bold"))
    for line in found.lines:
        out.print(
            f"  {line.holder} on {line.account.name} {line.does}"
            if line.refused is None
            else f"  {line.holder} on {line.account.name}: not put back. {line.refused}"
        )
    for said in found.also:
        out.print(f"  {said}")


COMMANDS: dict[str, click.Command] = {
    "revoke": revoke,
    "trim": trim,
    "revocation": revocation,
    "session": session_group,
}
