"""Rules: their settings, your own rules, and the facts they use."""

from __future__ import annotations

import sys
from pathlib import Path

import click
from rich.text import Text

from openlatch import schemas
from openlatch.cli import session
from openlatch.cli.consent import consent_options, go_on
from openlatch.cli.output import Column, Word, err, out, output_option, show_one, show_rows, table_options, yes
from openlatch.core.vocabulary import HolderKind

SENSITIVITIES = ("low", "medium", "high", "critical")
RULES: list[Column] = [
    ("Rule", lambda r: r.key),
    ("On", lambda r: Word(r.subject)),
    ("Open", lambda r: r.open),
    ("Set", lambda r: Word("off" if r.off else "own" if r.own else "on")),
    ("What it looks for", lambda r: r.about or r.title),
]
LIMITS: list[Column] = [
    ("Limit", lambda r: r.name),
    ("Low, medium, high, critical", lambda r: _four(r.values)),
    ("Unit", lambda r: r.unit),
    ("What it says", lambda r: r.about),
    ("", lambda r: "" if r.values == r.usual else f"usually {_four(r.usual)}"),
]
EFFECTS: list[Column] = [
    ("Rule", lambda r: r.rule),
    ("Raised", lambda r: r.raised),
    ("Cleared", lambda r: r.cleared),
    ("Other score", lambda r: r.rescored),
    ("For example", lambda r: r.examples[0].sentence if r.examples else ""),
]


def _four(values: list[int | None]) -> str:
    return ", ".join("none" if v is None else str(v) for v in values)


@click.group()
def rule() -> None:
    """The rules that raise flags, and their settings."""


@rule.command("list")
@table_options
def rule_list(output: str) -> None:
    """List the rules, with their numbers of open flags."""
    with session.client() as service:
        found = service.rules()
    show_rows(found.rules, RULES, output, "There are no rules.")


@rule.command("limits")
@table_options
def rule_limits(output: str) -> None:
    """Show the limits, by the sensitivity of accounts."""
    with session.client() as service:
        found = service.rules()
    show_rows(found.limits, LIMITS, output, "There are no limits.")


@rule.command("set")
@click.option("--limit", "limits", multiple=True, metavar="NAME=LOW,MEDIUM,HIGH,CRITICAL", help="Numbers, or none.")
@click.option("--off", "off", multiple=True, help="Switch a rule off.")
@click.option("--on", "on", multiple=True, help="Switch a rule on again.")
@consent_options
@output_option
def rule_set(limits: tuple[str, ...], off: tuple[str, ...], on: tuple[str, ...], output: str) -> None:
    """Set rules, after a preview of what that would raise and clear."""
    with session.client() as service:
        held = service.rules()
        switched = ({r.key for r in held.rules if r.off} | set(off)) - set(on)
        four = dict(map(_read_limit, limits))
        wish = schemas.SetRules.model_validate({"limits": four or None, "off": sorted(switched) if off or on else None})
        effects = service.preview_rules(wish)
        go_on("Set the rules so?", lambda how: show_rows(effects, EFFECTS, how, "No flag would change."), output)
        service.set_rules(wish)
    err.print("The rules are set; flags follow within moments.")


def _read_limit(written: str) -> tuple[str, list[int | None]]:
    name, _, values = written.partition("=")
    parts = [part.strip() for part in values.split(",")]
    if len(parts) != 4 or not all(part == "none" or part.isdigit() for part in parts):
        raise click.BadParameter(
            f"{written!r}: write it as unused=180,120,90,45, with none where it does not speak.", param_hint="--limit"
        )
    return name.strip(), [None if part == "none" else int(part) for part in parts]


@rule.command("check")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@output_option
def rule_check(file: Path, output: str) -> None:
    """Check a file of own rules: its examples, and what it would raise now."""
    with session.client() as service:
        found = service.check_own_rules(_text(file))

    def write() -> None:
        for own in found.rules:
            failures = [f for f in found.failures if f.rule == own.key]
            out.print(Text(own.key, style="bold"), f"on {own.on}: {own.title}.", "Fails." if failures else "Holds.")
            for failure in failures:
                kind = "matches" if failure.expected else "misses"
                where = f"Example {failure.example} of {kind}" if failure.example else "Examples"
                out.print(f"  {where}: {failure.why}", markup=False)
        if not found.failures:
            show_rows(found.effects, EFFECTS, "table", "They would raise nothing now.")

    show_one(found, output, write)
    if found.failures:
        sys.exit(4)


@rule.command("load")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
def rule_load(file: Path) -> None:
    """Load a file of own rules; its examples have to match."""
    with session.client() as service:
        found = service.keep_own_rules(_text(file))
    own = sum(r.own for r in found.rules)
    out.print(f"The rules are live; the organisation has {own} of its own.")


@rule.command("drop")
@click.argument("key")
def rule_drop(key: str) -> None:
    """Remove an own rule."""
    with session.client() as service:
        service.drop_own_rule(key)
    out.print(f"{key} is out of use; its flags clear.")


@rule.command("source")
@click.argument("key")
def rule_source(key: str) -> None:
    """Print the file of an own rule."""
    with session.client() as service:
        found = service.own_rule(key)
    click.echo(found.source, nl=False)


def _text(file: Path) -> str:
    try:
        return file.read_text(encoding="utf-8")
    except UnicodeDecodeError:
        raise click.BadParameter(f"{file} is not text in UTF-8.", param_hint="FILE") from None


@click.command("facts")
@click.argument("person_name", required=False)
@output_option
def facts(person_name: str | None, output: str) -> None:
    """Show the facts that rules use about somebody, yourself by default."""
    with session.client() as service:
        found = service.facts(session.find(service, "people", person_name) if person_name else None)
    if output == "json":
        return show_rows(found, [], output, "")
    if output == "csv":
        return show_rows(found, FACTS, output, "")
    for entry in found:
        where = f" on {entry.account}" if entry.account and entry.subject.kind != HolderKind.PERSON else ""
        out.print(Text(f"{entry.holder}{where} ({entry.subject.kind})", style="bold"))
        for fact in entry.facts:
            if fact.value not in (None, False, -1, ""):
                out.print(f"  {fact.about} {_value(fact.value)}", markup=False)
        raised = [r.sentence for r in entry.rules if r.found]
        out.print(f"  {len(entry.rules)} rules look at this; {len(raised)} speak.")
        for sentence in raised:
            out.print(f"    {sentence}", markup=False)
    return None


FACTS: list[Column] = [
    ("Kind", lambda r: Word(r.subject.kind)),
    ("Account", lambda r: r.account or ""),
    ("Rules that speak", lambda r: " ".join(rule.key for rule in r.rules if rule.found)),
]


def _value(value: object) -> str:
    return yes(value).said() if isinstance(value, bool) else str(value)


COMMANDS: dict[str, click.Command] = {"rule": rule, "facts": facts}
