"""Exposures: show, judge and close them, set guards, and try access rules."""

from __future__ import annotations

import json
import time
from collections.abc import Sequence
from datetime import date, datetime
from pathlib import Path
from uuid import UUID

import click
from rich.text import Text

from openlatch import schemas
from openlatch.cli import renamed, session
from openlatch.cli.access import INSTANT
from openlatch.cli.consent import consent_options, go_on, reason_option
from openlatch.cli.output import (
    Column,
    Word,
    day,
    moment,
    out,
    output_option,
    sensitivity,
    short,
    show_one,
    show_rows,
    table_options,
)
from openlatch.cli.register import list_command
from openlatch.cli.revocations import follow, write_preview, write_revocation
from openlatch.client import Client
from openlatch.core.exposure.rules import Right
from openlatch.core.vocabulary import DraftState, Judgement
from openlatch.errors import BadInput
from openlatch.languages.terminal import say

# Exit code: the draft opens something new.
WOULD_OPEN = 7
# Exit code: the system does not show the wanted state.
NOT_DONE = 8

EXPOSURES: list[Column] = [
    ("ID", lambda r: short(r.id)),
    ("What is open", lambda r: r.sentence),
    ("Can", lambda r: Word(r.right)),
    ("Since", lambda r: day(r.since)),
    ("Used", lambda r: r.last_used_on),
    ("Sensitivity", lambda r: sensitivity(r.account.sensitivity)),
    ("Judged", lambda r: judged(r)),
]
CHANGES: list[Column] = [
    ("Change", lambda r: Word(r.change, "grows" if r.grew and r.change == "changed" else None)),
    (
        "What is open",
        lambda r: f"{r.sentence} Against a guard." if r.forbidden and r.change != "gone" else r.sentence,
    ),
    ("Account", lambda r: r.account.name),
    ("By", lambda r: ", ".join(r.rules)),
]
AGAINST: list[Column] = [
    ("Open against it", lambda r: r.sentence),
    ("Account", lambda r: r.account.name),
    ("By", lambda r: ", ".join(r.rules)),
]
GUARDS: list[Column] = [
    ("ID", lambda r: short(r.id)),
    ("Guard", lambda r: r.sentence),
    ("Why", lambda r: r.reason),
    ("Set by", lambda r: r.made_by),
    ("In systems", lambda r: ", ".join(f"{each.system.name}: {say(each.state)}" for each in r.systems)),
]
EXPECTED: list[Column] = [
    ("ID", lambda r: short(r.id)),
    ("Name", lambda r: r.name),
    ("Filter", lambda r: r.filter),
    ("Why", lambda r: r.reason),
]
PAST: list[Column] = [
    ("What was open", lambda r: r.sentence),
    ("Can", lambda r: Word(r.right)),
    ("By", lambda r: ", ".join(r.rules)),
]


def judged(row: schemas.ExposureRow) -> str:
    """The judgement of an exposure, in a few words."""
    if row.judgement == Judgement.INTENDED:
        return "intended" + (f" until {day(row.intended_until)}" if row.intended_until else "")
    if row.judgement == Judgement.TO_CLOSE:
        return "to close"
    return f"expected ({row.expected_by.name})" if row.expected_by and row.expected_by.id else "not judged"


@click.group()
def exposure() -> None:
    """What is open to outsiders, or to anyone, by access rules."""


exposure.add_command(list_command("exposures", EXPOSURES, "Nothing is open to outsiders."))


@exposure.command("show")
@click.argument("ident", type=session.Reference("exposures"))
@output_option
def exposure_show(ident: UUID, output: str) -> None:
    """Show an exposure: the ways in, the rules, its use, and its judgement."""
    with session.client() as service:
        found = service.exposure(ident)
    show_one(found, output, lambda: _write_exposure(found))


def _write_exposure(found: schemas.ExposurePage) -> None:
    state = f"gone since {moment(found.gone_at)}" if found.gone_at else "open" if found.open else "opens later"
    out.print(Text(found.sentence, style="bold"), "kept shut by a guard of the system" if found.blocked else state)
    if found.forbidden:
        out.print("Against a guard of the organisation.")
    said = f"Judged: {judged(found)}. {found.judged_reason}".rstrip()
    out.print(f"{found.account.name}, since {day(found.since)}. {said}", markup=False)
    for text in found.unknown:
        out.print(f"Not understood, and counted as open: {text}", markup=False)
    for rule in found.rules:
        does = "lets in" if rule.admits else "keeps out"
        close = "" if rule.can_close or not rule.admits else " (has to be taken away by hand)"
        out.print(f"  {does}: {rule.key}{close}", markup=False)
        out.print(f"    {json.dumps(rule.rule, ensure_ascii=False)}", markup=False)
    for use in found.uses[:10]:
        out.print(f"  used on {use.day} by {use.who or 'nobody in particular'} {use.address}".rstrip(), markup=False)
    if found.narrower:
        out.print("  Enough for the use that was seen:")
        out.print(f"    {json.dumps(found.narrower, ensure_ascii=False)}", markup=False)


@exposure.command("judge")
@click.argument("idents", type=session.Reference("exposures"), nargs=-1, required=True)
@click.option("--intended", "judgement", flag_value="intended", help="It is meant to be open.")
@click.option("--to-close", "judgement", flag_value="to_close", help="It is to be closed.")
@click.option("--unjudged", "judgement", flag_value="unjudged", help="Take back what was judged.")
@click.option("--reason", default="", help="Why.")
@click.option("--until", type=session.Day(), default=None, help="The last day on which it is intended.")
@output_option
def exposure_judge(
    idents: tuple[UUID, ...], judgement: str | None, reason: str, until: date | None, output: str
) -> None:
    """Judge exposures: intended, with a reason and an end, or to be closed."""
    if judgement is None:
        raise BadInput("Say what they are.", "Give --intended, --to-close or --unjudged.")
    with session.client() as service:
        ids = list(idents)
        found = service.judge_exposures(ids, judgement, reason, until)
    show_rows(found, EXPOSURES, output, "")


@exposure.command("close")
@click.argument("idents", type=session.Reference("exposures"), nargs=-1, required=True)
@click.option("--reason", default="", help="Why.")
@consent_options
@click.option("--wait", is_flag=True, help="Wait until it is over.")
@output_option
def exposure_close(idents: tuple[UUID, ...], reason: str, wait: bool, output: str) -> None:
    """Close exposures: remove the rules that let outsiders in from their systems."""
    with session.client() as service:
        ids = list(idents)
        preview = service.preview_closing(ids)

        def write() -> None:
            write_preview(preview)
            show_rows(preview.exposures.lines, CHANGES, "table", "Nothing else changes.")

        go_on(f"Take {len(preview.rules)} rules away?", lambda how: show_one(preview, how, write), output)
        found = session.proving(service, lambda: service.close_exposures(ids, reason, preview.fingerprint))
        if wait:
            found = follow(service, found)
    show_one(found, output, lambda: write_revocation(found))


@exposure.command("past")
@click.argument("account")
@click.option("--at", type=INSTANT, required=True, help="The day or instant.")
@click.option("--believed", type=INSTANT, default=None, help="As it was known then; otherwise as known now.")
@table_options
def exposure_past(account: str, at: datetime, believed: datetime | None, output: str) -> None:
    """Show what was open on an ACCOUNT at an instant."""
    with session.client() as service:
        found = service.past_exposures(session.find(service, "accounts", account), at, believed)
    show_rows(found.exposures, PAST, output, "Nothing was open to outsiders then.")


@exposure.group("expected")
def expected() -> None:
    """Filters that mark what is expected to be open."""


@expected.command("list")
@table_options
def expected_list(output: str) -> None:
    """List the expected exposures, with the reasons."""
    with session.client() as service:
        show_rows(service.expected_exposures(), EXPECTED, output, "Nothing is expected to be open.")


@expected.command("add")
@click.argument("name")
@click.argument("filter_", metavar="FILTER")
@click.option("--reason", required=True, help="Why it is open.")
@output_option
def expected_add(name: str, filter_: str, reason: str, output: str) -> None:
    """Expect exposures that match a FILTER, for example: account.kind eq "site" and right eq "see"."""
    with session.client() as service:
        show_rows([service.expect_exposures(name, filter_, reason)], EXPECTED, output, "")


@expected.command("remove")
@click.argument("name")
def expected_remove(name: str) -> None:
    """Remove a filter of expected exposures."""
    with session.client() as service:
        service.stop_expecting(
            session.among(name, service.expected_exposures(), "expected exposures", lambda row: [row.name])
        )
    out.print("Removed.")


@exposure.command("rules")
@click.argument("account")
@click.option("--to", "file", type=click.Path(dir_okay=False, path_type=Path), default=None, help="Write it to a file.")
def exposure_rules(account: str, file: Path | None) -> None:
    """Print the access rules of an ACCOUNT as a rule document."""
    with session.client() as service:
        found = service.rules_of(session.find(service, "accounts", account))
    text = json.dumps(found.document, indent=2, ensure_ascii=False) + "\n"
    if file is None:
        click.echo(text, nl=False)
    else:
        file.write_text(text)
        out.print(f"Written to {file}.", markup=False)


@exposure.command("try")
@click.argument("account")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option(
    "--permission",
    "permissions",
    multiple=True,
    metavar="KEY=RIGHT",
    help="A permission that would come to see, change or administer.",
)
@click.option("--allow-new", is_flag=True, help="End with 0 although something new would be open.")
@output_option
def exposure_try(account: str, file: Path, permissions: Sequence[str], allow_new: bool, output: str) -> int | None:
    """Show what the rules in FILE would open and close on an ACCOUNT, without setting them.

    Exit code 7: somebody would get new access. 4: the document is invalid.
    """
    with session.client() as service:
        ident = session.find(service, "accounts", account)
        told = dict(_permission(each) for each in permissions)
        found = service.draft_rules(ident, file.read_text(), told)
        found = _worked_out(service, found)
    show_one(found, output, lambda: _write_draft(found, str(file)))
    if found.state == DraftState.REFUSED:
        return 4
    return WOULD_OPEN if not allow_new and any(line.grew for line in found.lines) else None


@exposure.command("apply")
@click.argument("account")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@reason_option(help="Why the rules are set.")
@consent_options
@output_option
def exposure_apply(account: str, file: Path, reason: str, output: str) -> int | None:
    """Set the rules in FILE in the system of an ACCOUNT, after a preview.

    Exit code 4: the document is invalid. 8: the system does not show the rules afterwards.
    """
    with session.client() as service:
        ident = session.find(service, "accounts", account)
        drafted = service.draft_rules(ident, file.read_text())
        return _apply(service, drafted, str(file), reason, output)


@exposure.command("narrow")
@click.argument("ident", type=session.Reference("exposures"))
@click.option("--reason", default="", help="Why. Without it, the draft is shown and nothing is set.")
@consent_options
@output_option
def exposure_narrow(ident: UUID, reason: str, output: str) -> int | None:
    """Leave open only what outsiders are known to have used, by denials on the resource.

    Exit code 8: the system does not show the rules afterwards.
    """
    with session.client() as service:
        drafted = service.narrow_exposure(ident)
        if reason:
            return _apply(service, drafted, "the draft", reason, output)
        found = _worked_out(service, drafted)
    show_one(found, output, lambda: _write_draft(found, "the draft"))
    return None


def _apply(service: Client, drafted: schemas.RuleDraftRow, name: str, reason: str, output: str) -> int | None:
    """Show what a draft would do, ask, have it set, and say whether the system shows it."""
    found = _worked_out(service, drafted)
    if found.state == DraftState.REFUSED:
        show_one(found, output, lambda: _write_draft(found, name))
        return 4
    question = f"Set these rules in {found.account.name}?"
    go_on(question, lambda how: show_one(found, how, lambda: _write_draft(found, name)), output)
    session.proving(service, lambda: service.apply_draft(drafted.id, reason))
    while (found := service.rule_draft(drafted.id)).state == DraftState.APPLYING:
        time.sleep(0.5)
    show_one(found, output, lambda: _write_applied(found))
    return None if found.state == DraftState.APPLIED else NOT_DONE


def _write_applied(found: schemas.RuleDraftRow) -> None:
    if found.state == DraftState.APPLIED:
        out.print(f"Set. The system of {found.account.name} shows the rules.", markup=False)
    else:
        out.print(f"Not set: {found.failure}", markup=False)


def _permission(text: str) -> tuple[str, str]:
    key, is_told, right = text.partition("=")
    if not is_told or right not in set(Right):
        raise BadInput(f"{text!r} is no permission with its right.", "Write it as publish=change.")
    return key, right


def _worked_out(service: Client, found: schemas.RuleDraftRow) -> schemas.RuleDraftRow:
    while found.state == DraftState.WAITING:
        time.sleep(0.5)
        found = service.rule_draft(found.id)
    return found


def _write_draft(found: schemas.RuleDraftRow, name: str) -> None:
    for problem in found.problems:
        out.print(f"{name}:{problem.line}: {problem.message}", markup=False)
    if found.counts is None:
        return
    out.print(", ".join(say(f"{count} {change}") for change, count in found.counts.items()) + ".")
    shown = [line for line in found.lines if line.change != "unchanged"]
    show_rows(shown, CHANGES, "table", "Nothing would be open that is not, and nothing would close.")
    for line in shown:
        for way in line.gained if line.change == "changed" else ():
            out.print(f"  gets in besides: {way} ({line.sentence})", markup=False)


@click.group()
def guard() -> None:
    """Guards: what no outsider may do. Exposures that break one are flagged."""


@guard.command("list")
@table_options
def guard_list(output: str) -> None:
    """List the guards on what you may see."""
    with session.client() as service:
        show_rows(service.guards(), GUARDS, output, "There is no guard.")


@guard.command("set")
@click.option("--account", default=None, help="On this account.")
@click.option("--kind", default=None, help="On all accounts of this kind.")
@click.option("--resource", default=None, help="On this resource.")
@click.option(
    "--right",
    "rights",
    multiple=True,
    type=click.Choice(["see", "change", "administer"]),
    required=True,
    help="What no outsider may do. Repeat it for several.",
)
@click.option("--but-organisation", "organisations", multiple=True, help="An organisation whose people may.")
@click.option("--but-holder", "holders", multiple=True, help="Somebody who may, as the system names them.")
@click.option("--reason", default="", help="Why it is there.")
@consent_options
@output_option
def guard_set(
    account: str | None,
    kind: str | None,
    resource: str | None,
    rights: Sequence[schemas.Right],
    organisations: Sequence[str],
    holders: Sequence[str],
    reason: str,
    output: str,
) -> None:
    """Set a guard on an account, a kind of account, a resource, or on everything."""
    with session.client() as service:
        wish = schemas.SetGuard(
            account=session.find(service, "accounts", account) if account else None,
            account_kind=kind,
            resource=session.find(service, "resources", resource) if resource else None,
            rights=list(rights),
            but=[{"organisation": o} for o in organisations] + [{"holder": h} for h in holders],
            reason=reason,
        )
        draft = schemas.GuardDraft.model_validate(wish.model_dump(exclude={"fingerprint"}))
        preview = service.preview_guard(draft)
        go_on("Set the guard?", lambda how: _write_against(preview, how), output)
        found = service.set_guard(wish.model_copy(update={"fingerprint": preview.fingerprint}))
    show_rows([found], GUARDS, output, "")


@guard.command("restore")
@click.argument("ident")
def guard_again(ident: str) -> None:
    """Set a guard again in the systems in which it was switched off."""
    with session.client() as service:
        service.set_guard_again(_one_guard(service, ident).id)
    out.print("It is set again; the guard's line says when the system shows it.")


def _one_guard(service: Client, ident: str) -> schemas.GuardRow:
    rows = {row.id: row for row in service.guards()}
    return rows[session.among(ident, rows.values(), "guards", lambda row: [row.sentence])]


@guard.command("lift")
@click.argument("ident")
@click.option("--reason", default="", help="Why.")
@consent_options
def guard_lift(ident: str, reason: str) -> None:
    """Lift a guard."""
    with session.client() as service:
        row = _one_guard(service, ident)
        preview = service.preview_lifting(row.id)
        go_on("Lift the guard?", lambda how: _write_against(preview, how))
        session.proving(service, lambda: service.lift_guard(row.id, reason, preview.fingerprint))
    out.print("Lifted.")


def _write_against(found: schemas.ExposureChanges, output: str) -> None:
    """What is open against a guard."""
    if output == "json":
        show_one(found, output, lambda: None)
        return
    show_rows(found.lines, AGAINST, output, "Nothing is open against it.")
    if found.more:
        out.print(f"And {found.more} more.")


def _write_changes(found: schemas.ExposureChanges, output: str) -> None:
    if output == "json":
        show_one(found, output, lambda: None)
        return
    shown = [line for line in found.lines if line.change != "unchanged"]
    show_rows(shown, CHANGES, output, "No exposure changes.")
    if found.more:
        out.print(f"And {found.more} more.")


@click.group()
def boundary() -> None:
    """What counts as inside the organisation."""


@boundary.command("show")
@output_option
def boundary_show(output: str) -> None:
    """Show the domains, organisations, networks and systems that count as inside."""
    with session.client() as service:
        found = service.boundary()
        names = {row.id: row.name for row in service.every("systems")}
    show_one(found, output, lambda: _write_boundary(found, names))


def _write_boundary(found: schemas.Boundary, names: dict[UUID, str]) -> None:
    for word, rows in (
        ("Domains", found.domains),
        ("Organisations", found.organisations),
        ("Networks", found.networks),
        ("Systems", [names.get(ident, str(ident)) for ident in found.systems]),
    ):
        out.print(f"{say(word)}: {', '.join(rows) or say('none')}", markup=False)


@boundary.command("set")
@click.option("--domain", "domains", multiple=True, help="A domain whose addresses are inside.")
@click.option("--organisation", "organisations", multiple=True, help="An organisation that is inside.")
@click.option("--network", "networks", multiple=True, help="A network that is inside, as 203.0.113.0/24.")
@click.option("--system", "systems", multiple=True, help="A system in which only people inside sign in.")
@consent_options
@output_option
def boundary_set(
    domains: Sequence[str],
    organisations: Sequence[str],
    networks: Sequence[str],
    systems: Sequence[str],
    output: str,
) -> None:
    """Set what counts as inside; options left out stay unchanged."""
    with session.client() as service:
        now = service.boundary()
        draft = schemas.BoundaryDraft(
            domains=list(domains or now.domains),
            organisations=list(organisations or now.organisations),
            networks=list(networks or now.networks),
            systems=[session.find(service, "systems", name) for name in systems] or list(now.systems),
        )
        preview = service.preview_boundary(draft)
        go_on("Set the boundary?", lambda how: _write_changes(preview, how), output)
        found = service.set_boundary(draft)
        names = {row.id: row.name for row in service.every("systems")}
    show_one(found, output, lambda: _write_boundary(found, names))


renamed.keep(guard, "again", "restore")

COMMANDS: dict[str, click.Command] = {"exposure": exposure, "guard": guard, "boundary": boundary}
