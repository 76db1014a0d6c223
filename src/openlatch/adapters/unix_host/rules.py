"""Sudo rules: read through sudo's own parser (``cvtsudoers``), line by line, and written back byte by byte.

Each logical line is parsed by itself, so that an invalid one affects no other. See
sudoers(5) and cvtsudoers(1); both are in Debian's package sudo.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from openlatch.adapters.limits import CALL_SECONDS
from openlatch.errors import SystemDown, SystemRefused
from openlatch.json_values import JsonObject, parsed

_INCLUDE = re.compile(rb'[@#]include(?P<folder>dir)?[ \t]+(?P<path>"[^"]*"|(?:\\.|\S)+)\s*\Z')
# A list of users that can be edited safely: plain names separated by commas.
_USERS = re.compile(r"(?P<lead>\s*)(?P<users>[^\s,=!\"\\]+(?:\s*,\s*[^\s,=!\"\\]+)*)(?P<rest>\s+.*)\Z", re.DOTALL)
_MOST_FILES = 500
SOME, AS_OTHERS, EVERYTHING = "some_commands", "as_others", "everything"
_ORDER = (SOME, AS_OTHERS, EVERYTHING)


@dataclass(frozen=True, slots=True)
class Rule:
    """One rule: its file, the bytes of its line, and the users in it, as parsed."""

    file: str
    raw: bytes
    users: tuple[JsonObject, ...]
    level: str


@dataclass(slots=True)
class Rules:
    """All rules of a host, with user aliases, and the places of invalid lines."""

    rules: list[Rule] = field(default_factory=list)
    aliases: dict[str, list[JsonObject]] = field(default_factory=dict)
    runas: dict[str, list[JsonObject]] = field(default_factory=dict)
    commands: dict[str, list[JsonObject]] = field(default_factory=dict)
    unreadable: list[str] = field(default_factory=list)

    def named(self, rule: Rule) -> list[JsonObject]:
        """Whom a rule names, with aliases resolved: in order, each with whether it is excluded."""
        return list(self._resolved(rule.users, False, ()))

    def _resolved(self, users: Sequence[JsonObject], negated: bool, within: tuple[str, ...]) -> Iterator[JsonObject]:
        for one in users:
            turned = negated != bool(one.get("negated"))
            alias = one.get("useralias")
            if alias is None:
                yield {**{key: value for key, value in one.items() if key != "negated"}, "negated": turned}
            elif alias in self.aliases and alias not in within:
                yield from self._resolved(self.aliases[alias], turned, (*within, alias))
            else:
                # An undefined alias names nobody, as for sudo.
                yield {"undefined": alias, "negated": turned}


def read(root: Path, bytes_of: Callable[[str], bytes]) -> Rules:
    """All rules below a root. ``bytes_of`` reads a file; if it raises SystemRefused, that file counts as unreadable."""
    found, specs = Rules(), list[tuple[str, bytes, JsonObject]]()
    waiting = ["etc/sudoers"] if (root / "etc/sudoers").exists() else _files(root, "etc/sudoers.d")
    seen: set[str] = set()
    while waiting and len(seen) < _MOST_FILES:
        file = waiting.pop(0)
        if file in seen:
            continue
        seen.add(file)
        try:
            content = bytes_of(file)
        except (SystemRefused, SystemDown):
            found.unreadable.append(file)
            continue
        for number, raw in logical_lines(content):
            text = _joined(raw).strip()
            include = _INCLUDE.match(text)
            if include is not None:
                path = _within(file, include["path"].strip(b'"').decode("utf-8", "surrogateescape"))
                waiting += _files(root, path) if include["folder"] else [path] if (root / path).exists() else []
            elif text and not re.match(rb"#(?!\d)", text):
                told = _parsed(raw)
                if told is None:
                    found.unreadable.append(f"{file}, line {number}")
                    continue
                found.aliases.update(told.get("User_Aliases", {}))
                found.runas.update(told.get("Runas_Aliases", {}))
                found.commands.update(told.get("Command_Aliases", {}))
                specs += [(file, raw, spec) for spec in told.get("User_Specs", ())]
    for file, raw, spec in specs:
        level = _level(found, spec["Cmnd_Specs"])
        if level:
            found.rules.append(Rule(file, raw, tuple(spec["User_List"]), level))
    return found


def logical_lines(content: bytes) -> Iterator[tuple[int, bytes]]:
    """Logical lines with their numbers, with their line ends; continued lines are joined."""
    kept, first = b"", 1
    # For sudo only a line feed ends a line.
    lines = [line + b"\n" for line in content.split(b"\n")]
    lines[-1] = lines[-1][:-1]
    for number, line in enumerate(filter(None, lines), 1):
        first = first if kept else number
        kept += line
        if not line.rstrip(b"\n").endswith(b"\\"):
            yield first, kept
            kept = b""
    if kept:
        yield first, kept


def without(rule: Rule, written: set[str]) -> bytes | None:
    """A rule's line without users spelled in one of these ways; empty if nobody is left.

    None if it has to be done by hand, since the rule names them through an alias or in another form.
    """
    match = _USERS.match(rule.raw.decode("latin-1"))
    if match is None or any(key in one for one in rule.users for key in ("useralias", "netgroup", "nonunixgroup")):
        return None
    names = [name.strip() for name in match["users"].split(",")]
    kept = [name for name in names if name not in written]
    if len(kept) == len(names) or len(names) != len(rule.users):
        return None
    return (match["lead"] + ", ".join(kept) + match["rest"]).encode("latin-1") if kept else b""


def replaced(content: bytes, line: bytes, by: bytes) -> bytes:
    """The file with one logical line replaced, wherever it is; every other byte stays."""
    ended = line if line.endswith(b"\n") else line + b"\n"
    return b"".join(by if raw in (line, ended) else raw for _, raw in logical_lines(content))


def check(path: Path) -> None:
    """Have sudo check a file before it replaces another. SystemRefused if sudo rejects it."""
    program = shutil.which("visudo", path=f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin")
    if program is None:
        raise SystemRefused("visudo is not installed.", "Install Debian's package sudo; nothing was changed.")
    done = _run([program, "-I", "-c", "-q", "-f", str(path)], b"")
    if done.returncode:
        raise SystemRefused("sudo would not take its rules as they would be then.", "Change the file by hand.")


def _parsed(raw: bytes) -> JsonObject | None:
    """One parsed line; None if it is invalid."""
    program = shutil.which("cvtsudoers")
    if program is None:
        raise SystemRefused("cvtsudoers is not installed.", "Install Debian's package sudo.")
    done = _run([program, "-c", "/dev/null", "-f", "json", "-"], raw if raw.endswith(b"\n") else raw + b"\n")
    if done.returncode:
        return None
    try:
        told = parsed(done.stdout.decode("utf-8", "backslashreplace"))
    except ValueError:
        return None
    return told if isinstance(told, dict) and _has_form(told) else None


def _has_form(told: JsonObject) -> bool:
    """Whether it has the form of cvtsudoers' output; anything else is not understood."""
    aliases = [told.get(f"{kind}_Aliases", {}) for kind in ("User", "Runas", "Command")]
    specs = told.get("User_Specs", [])
    return (
        all(isinstance(one, dict) and all(isinstance(names, list) for names in one.values()) for one in aliases)
        and isinstance(specs, list)
        and all(
            isinstance(spec, dict)
            and isinstance(spec.get("User_List"), list)
            and isinstance(spec.get("Cmnd_Specs"), list)
            for spec in specs
        )
    )


def _level(found: Rules, specs: Sequence[JsonObject]) -> str:
    """The level of a rule; empty if it gives nothing. Commands excluded from ALL don't limit it."""
    levels = []
    for spec in specs:
        given = _commands(found, spec.get("Commands", ()), ())
        last = {one["command"]: one.get("negated", False) for one in given if "command" in one}
        if all(last.values()):
            continue
        if not _is_root(found, spec):
            levels.append(AS_OTHERS)
        else:
            levels.append(EVERYTHING if last.get("ALL") is False else SOME)
    return max(levels, key=_ORDER.index, default="")


def _commands(found: Rules, commands: Sequence[JsonObject], within: tuple[str, ...]) -> Iterator[JsonObject]:
    for one in commands:
        alias = one.get("cmndalias")
        if alias is None:
            yield one
        elif alias not in within:
            for inner in _commands(found, found.commands.get(alias, ()), (*within, alias)):
                yield {**inner, "negated": bool(inner.get("negated")) != bool(one.get("negated"))}


def _is_root(found: Rules, spec: JsonObject) -> bool:
    """Whether a rule lets somebody act as root: by name, by id, as anybody, or by not saying as whom."""
    users = spec.get("runasusers")
    if users is None:
        return "runasgroups" not in spec
    named = [inner for one in users for inner in found.runas.get(one.get("runasalias", ""), [one])]
    return any(one.get("username") in ("root", "ALL") or one.get("userid") == 0 or "runasalias" in one for one in named)


def _files(root: Path, folder: str) -> list[str]:
    """The files of an included folder: sudo skips names with a dot, or a tilde at the end (sudoers(5))."""
    place = root / folder
    if not place.is_dir():
        return []
    names = sorted(path.name for path in place.iterdir() if path.is_file())
    return [f"{folder}/{name}" for name in names if "." not in name and not name.endswith("~")]


def _within(file: str, path: str) -> str:
    plain = re.sub(r"\\(.)", r"\1", path)
    return plain.lstrip("/") if plain.startswith("/") else f"{file.rpartition('/')[0]}/{plain}"


def _joined(raw: bytes) -> bytes:
    return raw.replace(b"\\\n", b" ")


def _run(command: list[str], told: bytes) -> subprocess.CompletedProcess[bytes]:
    try:
        return subprocess.run(command, input=told, capture_output=True, timeout=CALL_SECONDS, check=False)
    except subprocess.TimeoutExpired as error:
        raise SystemDown(f"{command[0]} did not answer.", "It will be tried again.") from error
