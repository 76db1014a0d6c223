"""What a host opens to the network, by shares without authentication.

Shares are those of exports(5) and smb.conf(5). They are settings of services that have to be told of a change, so they
are closed by hand.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from configparser import Error as NotReadable
from configparser import RawConfigParser
from dataclasses import dataclass
from ipaddress import ip_network
from pathlib import PurePosixPath

from openlatch.adapters.contract import FoundRule, RuleManner
from openlatch.core.exposure.paths import key_of
from openlatch.core.exposure.rules import Combining, Right
from openlatch.json_values import JsonList, JsonObject

MANNER = RuleManner(Combining.REFUSE_WINS, {"read": Right.SEE, "write": Right.CHANGE})
EXPORTS, SAMBA = "etc/exports", "etc/samba/smb.conf"
_EXPORTED = re.compile(r"([^()\s]*)(?:\(([^)]*)\))?\Z")
_WORD = re.compile(r'(?:"[^"]*"|[^\s"])+')
_YES = ("yes", "true", "1")


@dataclass(frozen=True, slots=True)
class Share:
    """A folder that a service serves to some networks without authentication.

    ``whence`` are networks, none for anywhere; ``unclear`` says which restrictions are not understood. ``as_everyone``:
    the mode of the folder has to let every login in as well.
    """

    folder: str
    file: str
    name: str
    writes: bool
    whence: tuple[str, ...] = ()
    unclear: str = ""
    as_everyone: bool = False


def of_shares(account: str, folder: str, rights: str, shares: Sequence[Share]) -> Iterator[FoundRule]:
    """The rules of shares that a folder is in, or is; ``rights`` are those that its mode gives to every login."""
    for share in shares:
        if not (
            PurePosixPath(folder) == PurePosixPath(share.folder)
            or PurePosixPath(share.folder) in PurePosixPath(folder).parents
        ):
            continue
        to = ["read", *(["write"] if share.writes else [])]
        if share.as_everyone:
            to = [word for letter, word in (("r", "read"), ("w", "write")) if word in to and letter in rights]
        if not to:
            continue
        who: JsonList = [{"network": each} for each in share.whence] or ["anyone"]
        rule: JsonObject = {"rule": f"{share.file}:{key_of(share.name)}", "admit": who, "to": to, "on": ["/"]}
        if share.unclear:
            rule["while"] = [{"not_understood": f"{share.file}: {share.unclear}"[:300]}]
        yield FoundRule(account, rule)


def exported(text: str) -> Iterator[Share]:
    """Shares of exports(5) that trust a network. ValueError for an invalid line."""
    for line in text.replace("\\\n", " ").splitlines():
        words = [word.replace('"', "") for word in _WORD.findall(line.partition("#")[0])]
        if not words:
            continue
        usual = next((word[1:] for word in words[1:] if word.startswith("-")), "")
        clients = [word for word in words[1:] if not word.startswith("-")] or [""]
        for client in clients:
            found = _EXPORTED.fullmatch(client)
            if found is None:
                raise ValueError(line)
            options = {*usual.split(","), *(found[2] or "").split(",")}
            asked = [option for option in options if option.startswith("sec=")]
            if asked and not any("sys" in option or "none" in option for option in asked):
                continue
            whence, unclear = _whence([] if found[1] in ("", "*") else [found[1]])
            yield Share(_decoded(words[0]), EXPORTS, f"{words[0]} {client}".strip(), "rw" in options, whence, unclear)


def shared(text: str) -> Iterator[Share]:
    """Shares of smb.conf(5) that are open to guests. ValueError if the file is invalid."""
    parser = RawConfigParser(
        strict=False,
        comment_prefixes=("#", ";"),
        delimiters=("=",),
        allow_no_value=True,
        interpolation=None,
        default_section="never a share",
    )
    parser.optionxform = lambda name: re.sub(r"\s+", "", name).lower()  # type: ignore[assignment, method-assign]
    try:
        parser.read_string("\n".join(line.strip() for line in text.replace("\\\n", " ").splitlines()))
    except NotReadable as error:
        raise ValueError(str(error)) from error
    above = dict(parser["global"]) if parser.has_section("global") else {}
    for name in parser.sections():
        told: Mapping[str, str | None] = {**above, **parser[name]}
        folder = told.get("path") or told.get("directory")
        guests = told.get("guestok") or told.get("public") or "no"
        if name.lower() == "global" or not folder or guests.lower() not in _YES:
            continue
        if (told.get("available") or "yes").lower() not in _YES:
            continue
        writes = any((told.get(key) or "no").lower() in _YES for key in ("writeable", "writable", "writeok"))
        writes = writes or (told.get("readonly") or "yes").lower() not in _YES
        hosts = (told.get("hostsallow") or told.get("allowhosts") or "").replace(",", " ").split()
        whence, unclear = _whence(hosts)
        yield Share(folder.rstrip("/") or "/", SAMBA, name, writes, whence, unclear, as_everyone=True)


def _whence(hosts: Sequence[str]) -> tuple[tuple[str, ...], str]:
    """The networks that host patterns stand for, and those that are not understood."""
    found = []
    for host in hosts:
        try:
            octets = host.rstrip(".").split(".") if host.endswith(".") else []
            text = f"{'.'.join([*octets, *['0'] * (4 - len(octets))])}/{8 * len(octets)}" if octets else host
            found.append(str(ip_network(text, strict=False)))
        except ValueError:
            return (), f"from {' '.join(hosts)}"
    return tuple(found), ""


def _decoded(path: str) -> str:
    """A path with its octal escapes decoded."""
    return re.sub(r"\\([0-7]{3})", lambda code: chr(int(code[1], 8)), path).rstrip("/") or "/"
