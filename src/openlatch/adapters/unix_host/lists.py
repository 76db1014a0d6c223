"""Who has access to a folder: its owner and group, access control lists with their mask, its content, and modes.

See acl(5): an entry is limited by the mask, and default entries apply to what is created there later.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field

_MASK = ("mask", "")


@dataclass(slots=True)
class List:
    """The list of one folder or file: rights by kind and id; the owner's have no id."""

    path: str
    owner: str
    group: str
    entries: dict[tuple[str, str], str] = field(default_factory=dict)
    defaults: dict[tuple[str, str], str] = field(default_factory=dict)

    def named(self) -> set[tuple[str, str]]:
        """Who has an entry of their own, or will have one in what is created there."""
        return {who for who in (*self.entries, *self.defaults) if who[0] in ("user", "group") and who[1]}

    def rights(self, who: tuple[str, str]) -> str:
        """What somebody may do there, or in what is created there: those of r, w and x that the masks leave."""
        both = (self.entries, self.defaults)
        given = {right for there in both for right in there.get(who, "") if right in there.get(_MASK, "rwx")}
        return "".join(right for right in "rwx" if right in given)


def parse(text: str) -> list[List]:
    """The lists in getfacl's numeric output about one or more folders. ValueError for anything else."""
    found: list[List] = []
    for line in text.splitlines():
        if not line.strip():
            continue
        if not found and not line.startswith("# file: "):
            raise ValueError(f"a line is not understood: {line!r}")
        if line.startswith("# file: "):
            found.append(List(_plain(line.removeprefix("# file: ")), "", ""))
        elif line.startswith("# owner: "):
            found[-1].owner = line.removeprefix("# owner: ")
        elif line.startswith("# group: "):
            found[-1].group = line.removeprefix("# group: ")
        elif not line.startswith("#"):
            _entry(found[-1], line)
    for one in found:
        # Every list has these three entries (acl(5)): without them the output was cut off.
        if not one.owner or not {("user", ""), ("group", ""), ("other", "")} <= one.entries.keys():
            raise ValueError(f"the list of {one.path} is not whole")
    return found


def _entry(one: List, line: str) -> None:
    entry = line.partition("#effective:")[0]
    words = entry.strip().removeprefix("default:").split(":")
    if len(words) != 3 or set(words[2]) - set("rwx-"):
        raise ValueError(f"an entry is not understood: {line!r}")
    into = one.defaults if entry.startswith("default:") else one.entries
    into[words[0], words[1]] = words[2].replace("-", "")


def _plain(name: str) -> str:
    """A name as getfacl writes it, with special characters in octal."""
    return re.sub(r"\\([0-7]{3})", lambda match: chr(int(match[1], 8)), name)
